package job

import (
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
	"grainkeep/internal/phrase"
)

// schemes are the engines that a URL can name.
var schemes = []string{"postgres", "mysql", "sqlite"}

// Address understands what --from and --to name as a source: a configured name, a
// URL, or the path of SQLite files.
func (s Set) Address(text string) (engine.Location, error) {
	if s.has(text) {
		return s.Location(text)
	}
	scheme, rest, _ := strings.Cut(text, ":")
	if scheme = engine.Meant(strings.ToLower(scheme)); rest != "" && slices.Contains(schemes, scheme) {
		if scheme == "sqlite" {
			path, err := url.PathUnescape(strings.TrimPrefix(rest, "//"))
			if err != nil {
				return engine.Location{}, fault.Wrong("source-unclear", "the URL %s cannot be understood",
					phrase.Redact(text))
			}
			return engine.Location{Engine: "sqlite", Path: path}, nil
		}
		return serverURL(scheme, text)
	}
	if strings.ContainsAny(text, "/"+string(filepath.Separator)) && !strings.Contains(text, "://") || exists(text) {
		return engine.Location{Engine: "sqlite", Path: filepath.Clean(text)}, nil
	}
	return engine.Location{}, fault.Wrong("source-unknown", "%q is not a configured source, a path or a URL",
		phrase.Redact(text)).
		Advise("configured are: %s; a path has a / in it; a URL looks like postgres://user@host:5432/",
			orNone(s.Sources()))
}

func orNone(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// serverURL reads engine://user@host:port/database?tls=… . A password in it would
// stand in the process list and in the shell's history.
func serverURL(name, text string) (engine.Location, error) {
	u, err := url.Parse(text)
	if err != nil {
		// the error would repeat the text, which may hold a password
		return engine.Location{}, fault.Wrong("source-unclear", "the URL cannot be understood").
			Advise("write it as %s://user@host:port/database; a password does not belong in it", name)
	}
	if u.Opaque != "" { // without the slashes: what looks like a part may be a password
		return engine.Location{}, fault.Wrong("source-unclear", "the URL cannot be understood").
			Advise("write it as %s://user@host:port/database; a password does not belong in it", name)
	}
	q := u.Query()
	if _, has := u.User.Password(); has || hasPassword(q) {
		return engine.Location{}, fault.Wrong("secret-in-argument",
			"the URL holds a password: everybody on this machine can read it in the process list").
			Advise("leave it out; put it into the server's usual password file (~/.pgpass or ~/.my.cnf, mode " +
				"600), or use a configured source with secret =")
	}
	at := engine.Location{Engine: name, Server: u.Host, User: u.User.Username(), Database: strings.TrimPrefix(u.Path,
		"/"), TLS: q.Get("tls"), CA: q.Get("ca")}
	if h := q.Get("host"); h != "" {
		at.Server = h
		if p := q.Get("port"); p != "" && name == "postgres" {
			at.Server = filepath.Join(h, ".s.PGSQL."+p)
		}
	}
	for k := range q {
		if k != "tls" && k != "ca" && k != "host" && k != "port" {
			return at, fault.Wrong("source-unclear", "the URL has an unknown part %q",
				k).Advise("known are: tls, ca, host, port")
		}
	}
	return at, nil
}

// hasPassword says whether a query of a URL names a password, however it is spelt.
func hasPassword(q url.Values) bool {
	for k := range q {
		if low := strings.ToLower(k); strings.Contains(low, "pass") || strings.Contains(low, "pwd") ||
			strings.Contains(low, "secret") {
			return true
		}
	}
	return false
}
