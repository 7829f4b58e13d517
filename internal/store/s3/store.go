// Package s3 is the store whose files are objects of a service that speaks the S3 protocol. What must be made only if it
// is absent is made by a conditional write; files are sent in parts, each with its digest, which the service checks.
package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"

	"grainkeep/internal/fault"
	"grainkeep/internal/store"
)

func init() { store.Register("s3", opener{}) }

type opener struct{}

// Open opens the store at bucket/prefix.
func (opener) Open(ctx context.Context, place string) (store.Store, error) {
	return open(ctx, place, false)
}

// Make makes the bucket if need be; what is in it stays as it is.
func (opener) Make(ctx context.Context, place string) (store.Store, error) {
	return open(ctx, place, true)
}

// tries is how often a request is sent that the service could not answer; the waits between grow.
const tries = 6

// Store is the objects below a prefix of a bucket. Its methods may be called side by side.
type Store struct {
	at *address
	c  *minio.Core

	unconditional atomic.Bool  // the service knows no conditional writes
	ahead         atomic.Int64 // how much the service's clock is ahead of this machine's

}

func open(ctx context.Context, place string, makeIt bool) (*Store, error) {
	at, err := parseAddress(place)
	if err != nil {
		return nil, err
	}
	s := &Store{at: at}
	if s.c, err = at.client(&s.ahead); err != nil {
		return nil, err
	}
	there, err := s.c.BucketExists(ctx, at.bucket)
	switch {
	case err != nil && code(err) != "AccessDenied": // who may only write objects is not told
		return nil, s.broken("open", "", err)
	case err == nil && !there && makeIt:
		err = s.c.MakeBucket(ctx, at.bucket, minio.MakeBucketOptions{Region: at.region, ObjectLocking: at.lock > 0})
	case err == nil && !there:
		err = fs.ErrNotExist
	default:
		err = nil
	}
	if err != nil {
		return nil, s.broken("open", "", err)
	}
	return s, nil
}

// code is the service's word for an error; empty: it gave none.
func code(err error) string { return minio.ToErrorResponse(err).Code }

// broken is an error about a name, in the words of a file system.
func (s *Store) broken(op, name string, err error) error {
	var own *fault.Error
	if errors.As(err, &own) || errors.Is(err, context.Canceled) {
		return err
	}
	r := minio.ToErrorResponse(err)
	switch {
	case r.Code == "NoSuchKey", r.Code == "NoSuchBucket", r.Code == "NotFound", r.StatusCode == http.StatusNotFound:
		err = fs.ErrNotExist
	case r.Code == "AccessDenied":
		err = fmt.Errorf("%w: %s", fs.ErrPermission, r.Message)
	case exists(err):
		err = fs.ErrExist
	}
	return &fs.PathError{Op: op, Path: s.Where(name), Err: err}
}

// exists says whether a conditional write found what it was not to find.
func exists(err error) bool {
	r := minio.ToErrorResponse(err)
	return errors.Is(err, fs.ErrExist) || r.Code == "PreconditionFailed" || r.Code == "ConditionalRequestConflict" ||
		r.StatusCode == http.StatusPreconditionFailed
}

// unknown says whether the service does not know conditional writes.
func unknown(err error) bool {
	r := minio.ToErrorResponse(err)
	return r.Code == "NotImplemented" || r.StatusCode == http.StatusNotImplemented
}

// Where is a name's URL.
func (s *Store) Where(name string) string { return s.at.where(name) }

// Medium implements store.Placed.
func (s *Store) Medium() (medium string, away bool) { return "service " + s.at.endpoint.Host, true }

// key is the object of a name.
func (s *Store) key(name string) string {
	if s.at.prefix == "" {
		return name
	}
	if name == "" {
		return s.at.prefix
	}
	return s.at.prefix + "/" + name
}

// below is what the keys of everything in a folder begin with.
func (s *Store) below(folder string) string {
	if k := s.key(folder); k != "" {
		return k + "/"
	}
	return ""
}

// name is the name of an object.
func (s *Store) name(key string) string {
	if s.at.prefix == "" {
		return key
	}
	return strings.TrimPrefix(key, s.at.prefix+"/")
}

// Stat implements store.Store.
func (s *Store) Stat(ctx context.Context, name string) (store.Entry, error) {
	if name == "" {
		return store.Entry{Folder: true}, nil
	}
	if err := store.CheckName(name); err != nil {
		return store.Entry{}, err
	}
	o, err := s.c.StatObject(ctx, s.at.bucket, s.key(name), minio.StatObjectOptions{})
	if err == nil {
		return store.Entry{Name: name, Bytes: o.Size, Time: o.LastModified}, nil
	}
	broken := s.broken("stat", name, err)
	if !errors.Is(broken, fs.ErrNotExist) {
		return store.Entry{}, broken
	}
	r, err := s.c.ListObjectsV2(s.at.bucket, s.below(name), "", "", "", 1) // a folder is what has something in it
	if err != nil {
		return store.Entry{}, s.broken("stat", name, err)
	}
	if len(r.Contents) > 0 {
		return store.Entry{Name: name, Folder: true}, nil
	}
	return store.Entry{}, broken
}

// manifestName is the file without which the others of a folder do not count.
const manifestName = "manifest.json"

// page is how many objects are listed at one time.
const page = 1000

// pages visits the pages of a listing; with a delimiter what is deeper comes as prefixes.
func (s *Store) pages(ctx context.Context, folder, delimiter string, visit func(minio.ListBucketV2Result) error) error {
	for token := ""; ; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		r, err := s.c.ListObjectsV2(s.at.bucket, s.below(folder), "", token, delimiter, page)
		if err != nil {
			return s.broken("list", folder, err)
		}
		if err := visit(r); err != nil {
			return err
		}
		if !r.IsTruncated || r.NextContinuationToken == "" {
			return nil
		}
		token = r.NextContinuationToken
	}
}

// List implements store.Store. A page is sorted, and each page is behind the one before.
func (s *Store) List(ctx context.Context, folder string, visit func(store.Entry) error) error {
	some := false
	err := s.pages(ctx, folder, "/", func(r minio.ListBucketV2Result) error {
		folders := r.CommonPrefixes
		next := func(before string) error {
			for len(folders) > 0 && (before == "" || folders[0].Prefix < before) {
				some = true
				e := store.Entry{Name: s.name(strings.TrimSuffix(folders[0].Prefix, "/")), Folder: true}
				folders = folders[1:]
				if err := visit(e); err != nil {
					return err
				}
			}
			return nil
		}
		for _, o := range r.Contents {
			if strings.HasSuffix(o.Key, "/") { // some clients mark a folder so
				some = true
				continue
			}
			if err := next(o.Key); err != nil {
				return err
			}
			some = true
			if err := visit(store.Entry{Name: s.name(o.Key), Bytes: o.Size, Time: o.LastModified}); err != nil {
				return err
			}
		}
		return next("")
	})
	if err == nil && !some && folder != "" {
		return s.broken("list", folder, fs.ErrNotExist)
	}
	return err
}

// Peek implements store.Peeker: one listing of all that is in the folder.
func (s *Store) Peek(ctx context.Context, folder, name string, visit func(base string, e store.Entry) error) error {
	if name == "" {
		return s.List(ctx, folder, func(e store.Entry) error {
			if !e.Folder {
				return nil
			}
			return visit(e.Name[strings.LastIndexByte(e.Name, '/')+1:], e)
		})
	}
	start := s.below(folder)
	some := false
	err := s.pages(ctx, folder, "", func(r minio.ListBucketV2Result) error {
		for _, o := range r.Contents {
			some = true
			base, rest, _ := strings.Cut(strings.TrimPrefix(o.Key, start), "/")
			if rest != name {
				continue
			}
			if err := visit(base, store.Entry{Name: s.name(o.Key), Bytes: o.Size, Time: o.LastModified}); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil && !some {
		return s.broken("list", folder, fs.ErrNotExist)
	}
	return err
}

// Remove implements store.Store. A folder is nothing by itself.
func (s *Store) Remove(ctx context.Context, name string) error {
	e, err := s.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) && strings.Contains(name, "/") {
		return nil // a folder that is empty, or what is gone already
	}
	if err != nil {
		return err
	}
	if e.Folder {
		return s.broken("remove", name, errors.New("something is in it"))
	}
	if strings.HasSuffix(name, "/"+manifestName) { // what makes the others count
		if err := s.locked(ctx, name); err != nil {
			return s.broken("remove", name, err)
		}
	}
	if err := s.c.RemoveObject(ctx, s.at.bucket, s.key(name), minio.RemoveObjectOptions{}); err != nil {
		return s.broken("remove", name, err)
	}
	return nil
}

// options are those of what is written under a name.
func (s *Store) options(name string) minio.PutObjectOptions {
	o := minio.PutObjectOptions{StorageClass: s.at.class, DisableMultipart: true, DisableContentSha256: true,
		ServerSideEncryption: s.at.encryption}
	if s.locks(name) {
		clock, _ := s.Clock(context.Background())
		o.Mode, o.RetainUntilDate = minio.Compliance, clock.Add(s.at.lock).UTC().Truncate(time.Second)
	}
	return o
}

// locks says whether what has a name stays for its time, whatever anybody does: all but what is under way, which goes.
func (s *Store) locks(name string) bool { return s.at.lock > 0 && name[0] != '.' }

// locked fails for an object that may not be removed yet. A service would only hide it, and keep it all the same.
func (s *Store) locked(ctx context.Context, name string) error {
	if !s.locks(name) {
		return nil
	}
	o, err := s.c.StatObject(ctx, s.at.bucket, s.key(name), minio.StatObjectOptions{})
	if err != nil {
		return err
	}
	until, err := time.Parse(time.RFC3339, o.Metadata.Get("X-Amz-Object-Lock-Retain-Until-Date"))
	if err != nil {
		return nil //nolint:nilerr // it has none
	}
	if until.After(time.Now().Add(time.Duration(s.ahead.Load()))) {
		return fault.New("object-locked", fs.ErrPermission, "%s is locked until %s", s.Where(name),
			until.UTC().Format("2006-01-02 15:04 UTC")).
			Advise("nobody can remove it before: the keep's lock says so")
	}
	return nil
}

// put writes a small object, with its digest. A condition adds what it depends on.
func (s *Store) put(ctx context.Context, name string, data []byte, condition func(*minio.PutObjectOptions)) error {
	o := s.options(name)
	if condition != nil && !s.unconditional.Load() {
		condition(&o)
	}
	sum := sha256.Sum256(data)
	_, err := s.c.PutObject(ctx, s.at.bucket, s.key(name), bytes.NewReader(data), int64(len(data)), s.md5(name, data),
		hex.EncodeToString(sum[:]), o)
	if condition != nil && (unknown(err) || o.Header().Get("If-None-Match") != "" && s.removedOnce(ctx, name, err)) {
		s.unconditional.Store(true)
		return s.put(ctx, name, data, nil)
	}
	return err
}

// removedOnce says that a service takes an object for present of which it only has what it was before it was removed.
func (s *Store) removedOnce(ctx context.Context, name string, err error) bool {
	if !exists(err) || s.at.lock == 0 { // a bucket with locks keeps what was
		return false
	}
	there, e := store.Exists(ctx, s, name)
	return e == nil && !there
}

// md5 is a second digest, which services demand of what is to be locked.
func (s *Store) md5(name string, data []byte) string {
	if !s.locks(name) {
		return ""
	}
	sum := md5.Sum(data)
	return base64.StdEncoding.EncodeToString(sum[:])
}

// onlyNew is the condition that there is no such object.
func onlyNew(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") }

// Unconditional says that the service was found to know no conditional writes: then two who make the same at the same
// instant are not told of each other.
func (s *Store) Unconditional() bool { return s.unconditional.Load() }

// ChecksDigests says that each piece was sent with its digest, which the service has checked.
func (s *Store) ChecksDigests() bool { return true }

// Replace implements store.Replacer.
func (s *Store) Replace(ctx context.Context, name string, data []byte) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	if err := s.put(ctx, name, data, nil); err != nil {
		return s.broken("write", name, err)
	}
	return nil
}

// Swap implements store.Swapper: by the tag of what was read.
func (s *Store) Swap(ctx context.Context, name string, old, data []byte) error {
	if err := store.CheckName(name); err != nil {
		return err
	}
	if old == nil {
		if s.unconditional.Load() {
			if there, err := store.Exists(ctx, s, name); there || err != nil {
				return errors.Join(store.ErrSwapped, err)
			}
		}
		return s.swapped(name, s.put(ctx, name, data, onlyNew))
	}
	r, info, _, err := s.c.GetObject(ctx, s.at.bucket, s.key(name), minio.GetObjectOptions{})
	if err != nil {
		return s.swapped(name, err)
	}
	now, err := io.ReadAll(io.LimitReader(r, int64(len(old))+1))
	if err = errors.Join(err, r.Close()); err != nil {
		return s.swapped(name, err)
	}
	if !bytes.Equal(now, old) {
		return store.ErrSwapped
	}
	return s.swapped(name, s.put(ctx, name, data, func(o *minio.PutObjectOptions) { o.SetMatchETag(info.ETag) }))
}

func (s *Store) swapped(name string, err error) error {
	switch {
	case err == nil:
		return nil
	case exists(err):
		return store.ErrSwapped
	}
	return s.broken("write", name, err)
}

// Lease implements store.Leaser.
func (s *Store) Lease(ctx context.Context, name string) (store.Lease, error) {
	return store.LeaseByFile(ctx, s, name)
}

// Clock implements store.Swapper: the service's answers say when they were given.
func (s *Store) Clock(ctx context.Context) (time.Time, error) {
	return time.Now().Add(time.Duration(s.ahead.Load())), ctx.Err()
}
