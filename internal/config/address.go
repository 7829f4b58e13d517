package config

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"grainkeep/internal/engine"
	"grainkeep/internal/fault"
)

// schemes are the beginnings of URLs by engine.
var schemes = map[string]string{"postgres": "postgres", "postgresql": "postgres", "mysql": "mysql", "mariadb": "mysql", "sqlite": "sqlite"}

// Address understands what --from and --to name as a source: a configured name, a
// URL, or the path of SQLite files. f may be nil.
func Address(f *File, text string) (engine.Location, error) {
	if f != nil {
		if _, ok := f.Source[text]; ok {
			return f.Location(text)
		}
	}
	if scheme, rest, ok := strings.Cut(text, ":"); ok && schemes[scheme] != "" {
		if schemes[scheme] == "sqlite" {
			path, err := url.PathUnescape(strings.TrimPrefix(rest, "//"))
			if err != nil {
				return engine.Location{}, fault.Wrong("source-unclear", "the URL %s cannot be understood", text)
			}
			return engine.Location{Engine: "sqlite", Path: path}, nil
		}
		return serverURL(schemes[scheme], text)
	}
	if strings.ContainsRune(text, '/') || exists(text) {
		return engine.Location{Engine: "sqlite", Path: filepath.Clean(text)}, nil
	}
	var names []string
	if f != nil {
		names = f.Sources()
	}
	return engine.Location{}, fault.Wrong("source-unknown", "%q is not a configured source, a path or a URL", text).
		Advise("configured are: %s; a path has a / in it; a URL looks like postgres://user@host:5432/", orNone(names))
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
	q := u.Query()
	if _, has := u.User.Password(); has || q.Has("password") {
		return engine.Location{}, fault.Wrong("secret-in-argument", "the URL holds a password: everybody on this machine can read it in the process list").
			Advise("leave it out; put it into the server's usual password file (~/.pgpass or ~/.my.cnf, mode 600), or use a configured source with secret =")
	}
	at := engine.Location{Engine: name, Server: u.Host, User: u.User.Username(), Database: strings.TrimPrefix(u.Path, "/"), TLS: q.Get("tls"), CA: q.Get("ca")}
	if h := q.Get("host"); h != "" {
		at.Server = h
		if p := q.Get("port"); p != "" && name == "postgres" {
			at.Server = filepath.Join(h, ".s.PGSQL."+p)
		}
	}
	for k := range q {
		if k != "tls" && k != "ca" && k != "host" && k != "port" {
			return at, fault.Wrong("source-unclear", "the URL has an unknown part %q", k).Advise("known are: tls, ca, host, port")
		}
	}
	return at, nil
}
