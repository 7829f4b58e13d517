package testserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Keys with which the object store is opened, as the environment has them.
const (
	S3User   = "ternskerry"
	S3Secret = "made-up-for-halsund"
)

// S3 is a running private gateway that gives a folder as an object store.
type S3 struct {
	Folder string // its buckets are folders in Folder/data
	Port   int
	cmd    *exec.Cmd
}

// StartS3 starts one below a folder, without buckets. ErrAbsent says that there is none to start: scripts/servers builds it.
func StartS3(parent string) (*S3, error) {
	program := filepath.Join(cache(), "s3", "gateway")
	if _, err := os.Stat(program); err != nil {
		return nil, fmt.Errorf("%w: an object store", ErrAbsent)
	}
	s := &S3{}
	var err error
	if s.Folder, err = os.MkdirTemp(parent, "s3-"); err != nil {
		return nil, err
	}
	if err := os.Mkdir(s.data(), 0o700); err != nil {
		return nil, err
	}
	if s.Port, err = freePort(); err != nil {
		return nil, err
	}
	log, err := os.Create(filepath.Join(s.Folder, "log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	for _, folder := range []string{"accounts", "versions"} {
		if err := os.Mkdir(filepath.Join(s.Folder, folder), 0o700); err != nil {
			return nil, err
		}
	}
	s.cmd = exec.Command(program, "--port", s.address(), "--iam-dir", filepath.Join(s.Folder, "accounts"), "posix",
		"--versioning-dir", filepath.Join(s.Folder, "versions"), s.data())
	s.cmd.Env = append(os.Environ(), "ROOT_ACCESS_KEY_ID="+S3User, "ROOT_SECRET_ACCESS_KEY="+S3Secret)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	for range 400 {
		if c, err := net.Dial("tcp", s.address()); err == nil {
			return s, c.Close()
		}
		time.Sleep(25 * time.Millisecond)
	}
	text, _ := os.ReadFile(log.Name())
	return nil, errors.Join(fmt.Errorf("the object store does not answer\n%s", text), s.Close())
}

func (s *S3) data() string { return filepath.Join(s.Folder, "data") }

func (s *S3) address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// Close stops the gateway and removes its folder.
func (s *S3) Close() error {
	err := s.cmd.Process.Kill()
	s.cmd.Wait()
	return errors.Join(err, os.RemoveAll(s.Folder))
}

// URL is the address of a prefix of a bucket.
func (s *S3) URL(bucket, prefix string) string {
	return fmt.Sprintf("s3://%s/%s?endpoint=http://%s", bucket, prefix, s.address())
}

// Path is where an object lies on this machine.
func (s *S3) Path(bucket, key string) string { return filepath.Join(s.data(), bucket, key) }

// AddUser adds somebody who may do in a bucket just what a policy allows: actions such as s3:PutObject.
func (s *S3) AddUser(user, secret, bucket string, actions ...string) error {
	cmd := exec.Command(s.cmd.Path, "admin", "--access", S3User, "--secret", S3Secret, "--endpoint-url", "http://"+s.address(),
		"create-user", "--access", user, "--secret", secret, "--role", "user")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	c, err := minio.New(s.address(), &minio.Options{Creds: credentials.NewStaticV4(S3User, S3Secret, "")})
	if err != nil {
		return err
	}
	policy, err := json.Marshal(map[string]any{"Version": "2012-10-17", "Statement": []any{map[string]any{"Effect": "Allow",
		"Principal": map[string]any{"AWS": []string{user}}, "Action": actions, "Resource": []string{"arn:aws:s3:::" + bucket,
			"arn:aws:s3:::" + bucket + "/*"}}}})
	if err != nil {
		return err
	}
	return c.SetBucketPolicy(context.Background(), bucket, string(policy))
}
