// Command packager makes packages of the program: .deb and .tar.gz, for amd64 and arm64. The same sources give the same
// bytes: times are those of the last commit. scripts/package runs it.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	"github.com/spf13/cobra/doc"

	"grainkeep/internal/cli"
)

func main() {
	out := flag.String("out", "dist", "where the packages go")
	version := flag.String("version", cli.Version, "of the packages")
	flag.Parse()
	if err := build(*out, *version); err != nil {
		fmt.Fprintln(os.Stderr, "package:", err)
		os.Exit(1)
	}
}

func build(out, version string) error {
	at, err := commitTime()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	for _, system := range []string{"linux", "freebsd", "darwin", "windows"} {
		for _, arch := range []string{"amd64", "arm64"} {
			if err := pack(out, version, system, arch, at); err != nil {
				return fmt.Errorf("%s, %s: %w", system, arch, err)
			}
		}
	}
	return nil
}

// pack makes the packages for one system and one kind of processor.
func pack(out, version, system, arch string, at time.Time) error {
	root, err := os.MkdirTemp("", "grainkeep-package-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(root)
	if err := fill(root, system, arch, at); err != nil {
		return err
	}
	switch system {
	case "linux":
		err = debian(root, out, version, arch, at)
	case "windows":
		return zipped(root, out, version+"-"+system+"-"+arch, at)
	default:
		err = os.RemoveAll(filepath.Join(root, "usr/lib/systemd"))
	}
	if err != nil {
		return err
	}
	return archive(root, out, version+"-"+system+"-"+arch, at)
}

// commitTime is that of the last commit.
func commitTime() (time.Time, error) {
	text, err := exec.Command("git", "log", "-1", "--format=%ct").Output()
	if err != nil {
		return time.Time{}, err
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	return time.Unix(seconds, 0).UTC(), err
}

// fill makes the tree of what is installed.
func fill(root, system, arch string, at time.Time) error {
	for _, folder := range []string{"usr/bin", "usr/share/man/man1", "usr/share/bash-completion/completions",
		"usr/share/zsh/vendor-completions", "usr/share/fish/vendor_completions.d", "usr/lib/systemd/system",
		"usr/share/doc/grainkeep"} {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			return err
		}
	}
	cmd := exec.Command("go", "build", "-buildvcs=true", "-trimpath", "-ldflags", "-s -w -buildid=", "-o",
		filepath.Join(root, "usr/bin/grainkeep"),
		"./cmd/grainkeep")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+arch)
	if text, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, text)
	}
	if err := manual(root, at); err != nil {
		return err
	}
	docs := filepath.Join(root, "usr/share/doc/grainkeep")
	for from, to := range map[string]string{"scripts/packager/files/grainkeep.service": "usr/lib/systemd/system/grainkeep.service",
		"README.md": "usr/share/doc/grainkeep/README.md", "docs/guide.md": "usr/share/doc/grainkeep/guide.md",
		"docs/configuration.md": "usr/share/doc/grainkeep/configuration.md", "docs/format.md": "usr/share/doc/grainkeep/format.md",
		"LICENSE": "usr/share/doc/grainkeep/copyright"} {
		data, err := os.ReadFile(from)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(root, to), data, 0o644); err != nil {
			return err
		}
	}
	list, err := components(filepath.Join(root, "usr/bin/grainkeep"))
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(docs, "components.txt"), list, 0o644)
}

// manual writes the manual pages and completions.
func manual(root string, at time.Time) error {
	commands := cli.Commands()
	pages := filepath.Join(root, "usr/share/man/man1")
	if err := doc.GenManTree(commands, &doc.GenManHeader{Title: "GRAINKEEP", Section: "1", Date: &at, Source: "grainkeep " + cli.Version,
		Manual: "Grain Keep"}, pages); err != nil {
		return err
	}
	entries, err := os.ReadDir(pages)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := filepath.Join(pages, e.Name())
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		var b bytes.Buffer
		z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
		if err == nil {
			_, err = z.Write(data)
		}
		if err == nil {
			err = z.Close()
		}
		if err == nil {
			err = os.WriteFile(path+".gz", b.Bytes(), 0o644)
		}
		if err == nil {
			err = os.Remove(path)
		}
		if err != nil {
			return err
		}
	}
	if err := commands.GenBashCompletionFileV2(filepath.Join(root, "usr/share/bash-completion/completions/grainkeep"), true); err != nil {
		return err
	}
	if err := commands.GenZshCompletionFile(filepath.Join(root, "usr/share/zsh/vendor-completions/_grainkeep")); err != nil {
		return err
	}
	return commands.GenFishCompletionFile(filepath.Join(root, "usr/share/fish/vendor_completions.d/grainkeep.fish"), true)
}

// components lists what the program is made of, with licences.
func components(program string) ([]byte, error) {
	text, err := exec.Command("go", "version", "-m", program).Output()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString("What grainkeep is made of: modules, versions, licences as their own files begin.\n\n")
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 3 || f[0] != "dep" {
			continue
		}
		dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", f[1]).Output()
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "%-50s %-45s %s\n", f[1], f[2], licence(strings.TrimSpace(string(dir))))
	}
	return b.Bytes(), nil
}

// licence is the first line of a module's licence that says which it is.
func licence(dir string) string {
	found, _ := filepath.Glob(filepath.Join(dir, "*")) // a pattern of ours
	for _, path := range found {
		if name := strings.ToUpper(filepath.Base(path)); !strings.HasPrefix(name, "LICEN") && !strings.HasPrefix(name, "COPYING") {
			continue
		}
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		text := string(data)
		for _, k := range [][2]string{{"Apache License", "Apache-2.0"}, {"Mozilla Public License", "MPL-2.0"},
			{"Permission is hereby granted, free of charge", "MIT"}, {"Permission to use, copy, modify, and/or distribute", "ISC"},
			{"Neither the name", "BSD-3-Clause"}, {"Redistribution and use in source and binary forms", "BSD-2-Clause"},
			{"public domain", "public domain"}} {
			if strings.Contains(text, k[0]) {
				return k[1]
			}
		}
		return "see " + filepath.Base(path)
	}
	return "not stated"
}

// debian writes the .deb.
func debian(root, out, version, arch string, at time.Time) error {
	var contents files.Contents
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		name, err := filepath.Rel(root, path)
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(name, "usr/bin/") {
			mode = 0o755
		}
		contents = append(contents, &files.Content{Source: path, Destination: "/" + name,
			FileInfo: &files.ContentFileInfo{Owner: "root", Group: "root", Mode: mode, MTime: at}})
		return err
	})
	if err != nil {
		return err
	}
	scripts := "scripts/packager/files/"
	info := nfpm.WithDefaults(&nfpm.Info{Name: "grainkeep", Arch: arch, Platform: "linux", Version: version, Section: "database",
		Priority: "optional", Maintainer: "Grain Keep <dumps@ternskerry.example>", MTime: at,
		Description: "dumps databases, and proves that the dumps restore\n PostgreSQL, MariaDB, MySQL and SQLite; one static program.",
		License:     "see /usr/share/doc/grainkeep/copyright",
		Overridables: nfpm.Overridables{Contents: contents, Depends: []string{"passwd"}, Recommends: []string{"tzdata"},
			Scripts: nfpm.Scripts{PostInstall: scripts + "postinst", PreRemove: scripts + "prerm", PostRemove: scripts + "postrm"}}})
	p, err := nfpm.Get("deb")
	if err != nil {
		return err
	}
	info.Target = filepath.Join(out, p.ConventionalFileName(info))
	f, err := os.Create(info.Target)
	if err != nil {
		return err
	}
	if err := p.Package(info, f); err != nil {
		f.Close()
		return err
	}
	fmt.Println(info.Target)
	return f.Close()
}

// zipped writes the .zip for Windows: the program and its documents in one folder.
func zipped(root, out, version string, at time.Time) error {
	name := "grainkeep-" + version
	path := filepath.Join(out, name+".zip")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	paths, err := filepath.Glob(filepath.Join(root, "usr/share/doc/grainkeep/*"))
	if err != nil {
		return err
	}
	w := zip.NewWriter(f)
	for _, p := range append([]string{filepath.Join(root, "usr/bin/grainkeep")}, paths...) {
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		as := filepath.Base(p)
		if as == "grainkeep" {
			as = "grainkeep.exe"
		}
		part, err := w.CreateHeader(&zip.FileHeader{Name: name + "/" + as, Method: zip.Deflate, Modified: at})
		if err == nil {
			_, err = part.Write(data)
		}
		if err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	fmt.Println(path)
	return f.Close()
}

// archive writes the .tar.gz, whose files are below a folder of its name.
func archive(root, out, version string, at time.Time) error {
	name := "grainkeep-" + version
	path := filepath.Join(out, name+".tar.gz")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err != nil {
		return err
	}
	w := tar.NewWriter(z)
	var paths []string
	if err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			paths = append(paths, p)
		}
		return err
	}); err != nil {
		return err
	}
	sort.Strings(paths)
	for _, p := range paths {
		inside, err := filepath.Rel(root, p)
		if err != nil {
			return err
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		mode := int64(0o644)
		if strings.HasPrefix(inside, "usr/bin/") {
			mode = 0o755
		}
		if err := w.WriteHeader(&tar.Header{Name: name + "/" + inside, Mode: mode, Size: int64(len(data)), ModTime: at,
			Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := w.Write(data); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	fmt.Println(path)
	return f.Close()
}
