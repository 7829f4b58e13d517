package s3

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/minio/minio-go/v7/pkg/encrypt"

	"grainkeep/internal/phrase"
)

// address is where a store is, and how it is reached.
type address struct {
	bucket, prefix string // the prefix without slashes at its ends
	endpoint       *url.URL
	region         string
	byPath         bool               // the bucket stands in the path, not in the host's name
	profile        string             // of the usual shared file of credentials
	file           string             // of credentials, instead of the usual one
	class          string             // of storage
	lock           time.Duration      // for which nobody can remove or replace what dumps are made of; 0: not at all
	encryption     encrypt.ServerSide // that the service does; nil: as it does by itself
}

// parseAddress reads what stands after the scheme: bucket/prefix, with endpoint, region, style, profile, credentials and
// class, lock and encryption as options.
func parseAddress(place string) (*address, error) {
	u, err := url.Parse("s3://" + place)
	if err != nil {
		return nil, fmt.Errorf("s3://%s cannot be understood", place)
	}
	if u.User != nil {
		return nil, errors.New("keys have no place in an address: they come from the environment, or from a file")
	}
	a := &address{bucket: u.Host, prefix: strings.Trim(path.Clean("/"+u.Path), "/"), region: os.Getenv("AWS_REGION")}
	endpoint := os.Getenv("AWS_ENDPOINT_URL")
	for option, values := range u.Query() {
		switch v := values[0]; option {
		case "endpoint":
			endpoint = v
		case "region":
			a.region = v
		case "style":
			if v != "path" && v != "host" {
				return nil, fmt.Errorf("style is %q: write path or host", v)
			}
			a.byPath = v == "path"
		case "profile":
			a.profile = v
		case "credentials":
			a.file = v
		case "class":
			a.class = v
		case "lock":
			if a.lock, err = phrase.ParseAge(v); err != nil {
				return nil, fmt.Errorf("lock: %w", err)
			}
		case "encryption":
			if a.encryption, err = serverSide(v); err != nil {
				return nil, err
			}
		default:
			return nil, fmt.Errorf("an S3 address has no option %q; there are endpoint, region, style, profile, credentials, "+
				"class, lock and encryption", option)
		}
	}
	if a.bucket == "" {
		return nil, fmt.Errorf("s3://%s names no bucket", place)
	}
	if a.region == "" {
		a.region = usualRegion
	}
	if endpoint == "" {
		endpoint = "https://s3." + a.region + ".amazonaws.com"
	} else if u.Query().Get("style") == "" {
		a.byPath = true // what a service of one's own takes in any case
	}
	if a.endpoint, err = url.Parse(endpoint); err != nil || a.endpoint.Host == "" ||
		a.endpoint.Scheme != "http" && a.endpoint.Scheme != "https" {
		return nil, fmt.Errorf("the endpoint %q is no URL: write https://host:port", endpoint)
	}
	return a, nil
}

// serverSide reads how the service is to encrypt: "service", with keys of its own, or "kms:KEY", with a key of its key
// management.
func serverSide(v string) (encrypt.ServerSide, error) {
	if v == "service" {
		return encrypt.NewSSE(), nil
	}
	if key, is := strings.CutPrefix(v, "kms:"); is && key != "" {
		return encrypt.NewSSEKMS(key, nil)
	}
	return nil, fmt.Errorf("encryption is %q: write service, or kms: and the id of a key", v)
}

// where is a name in the store as people write it: with what is needed to find it again.
func (a *address) where(name string) string {
	s := "s3://" + a.bucket
	for _, part := range []string{a.prefix, name} {
		if part != "" {
			s += "/" + part
		}
	}
	options := url.Values{}
	if !strings.HasSuffix(a.endpoint.Hostname(), ".amazonaws.com") {
		options.Set("endpoint", a.endpoint.String())
	}
	if a.region != usualRegion {
		options.Set("region", a.region)
	}
	if len(options) > 0 {
		text, _ := url.QueryUnescape(options.Encode()) // it was one before
		s += "?" + text
	}
	return s
}

// usualRegion is that of a service which says nothing else.
const usualRegion = "us-east-1"

// client makes what speaks to the service. Credentials come from a file that is named, else from the environment, else
// from the usual shared file, else from the machine's role.
func (a *address) client(ahead *atomic.Int64) (*minio.Core, error) {
	chain := []credentials.Provider{&credentials.EnvAWS{}, &credentials.FileAWSCredentials{Profile: a.profile},
		&credentials.IAM{}}
	if a.file != "" {
		if st, err := os.Stat(a.file); err != nil {
			return nil, fmt.Errorf("the credentials cannot be read: %w", err)
		} else if st.Mode().Perm()&0o077 != 0 {
			return nil, fmt.Errorf("others can read the credentials in %s: chmod 600 it", a.file)
		}
		chain = []credentials.Provider{&credentials.FileAWSCredentials{Filename: a.file, Profile: a.profile}}
	} else if a.endpoint.Hostname() == "localhost" || strings.HasPrefix(a.endpoint.Hostname(), "127.") {
		chain = chain[:2] // no role is asked for
	}
	base, err := minio.DefaultTransport(a.endpoint.Scheme == "https")
	if err != nil {
		return nil, err
	}
	lookup := minio.BucketLookupDNS
	if a.byPath {
		lookup = minio.BucketLookupPath
	}
	return minio.NewCore(a.endpoint.Host, &minio.Options{Creds: credentials.NewChainCredentials(chain),
		Secure: a.endpoint.Scheme == "https", Region: a.region, BucketLookup: lookup, MaxRetries: tries,
		Transport: &dated{base, ahead}})
}

// dated notes what time it is by the service's clock, which all its answers tell.
type dated struct {
	base  http.RoundTripper
	ahead *atomic.Int64
}

func (d *dated) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := d.base.RoundTrip(r)
	if err == nil {
		if at, e := http.ParseTime(answer.Header.Get("Date")); e == nil {
			d.ahead.Store(int64(time.Until(at)))
		}
	}
	return answer, err
}
