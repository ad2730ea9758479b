//go:build linux && amd64

package main

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/ring"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/windowstest"
)

// TestRelease makes a release twice: of clones in other folders, with another
// name of the computer, at another hour. It compares them, and uses what they
// hold.
func TestRelease(t *testing.T) {
	ring.Needs(t, ring.Middle)
	first := t.TempDir()
	origin := filepath.Join(first, "origin")
	committed(t, origin)
	dist := filepath.Join(first, "make")
	run(t, ".", nil, "go", "build", "-o", dist, ".")
	var made []string
	for i, as := range []struct {
		dir string
		env []string
	}{
		{"here", []string{"TZ=UTC", "GOFLAGS=-buildvcs=false"}},
		{"far/away/below", []string{"TZ=Asia/Kathmandu", "GOAMD64=v3", "LC_ALL=C"}},
	} {
		clone, out := filepath.Join(first, as.dir), filepath.Join(first, fmt.Sprint(i))
		run(t, ".", nil, "git", "clone", "-q", origin, clone)
		const apart = `hostname "$1" && umask 0077 && shift && exec "$@"`
		run(t, clone, as.env, "unshare", "--uts", "sh", "-c", apart, "sh", fmt.Sprint("bench", i),
			dist, "-o", out, "-only", "linux/amd64,windows/amd64")
		made = append(made, out)
	}
	compare(t, made[0], made[1])
	run(t, made[0], nil, "sha256sum", "--check", "--quiet", "SHA256SUMS")
	if err := os.WriteFile(filepath.Join(first, "here/README.md"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(dist, "-o", first+"/none")
	cmd.Dir = filepath.Join(first, "here")
	if text, err := cmd.CombinedOutput(); err == nil || !strings.Contains(string(text), "README") {
		t.Errorf("a changed checkout: %v %s", err, text)
	}
	t.Run("pages", func(t *testing.T) { readPages(t, made[0]) })
	t.Run("packages", func(t *testing.T) { install(t, made[0]) })
	t.Run("windows", func(t *testing.T) { startOnWindows(t, made[0]) })
}

// committed puts the files of this checkout into one of a single commit.
func committed(t *testing.T, to string) {
	t.Helper()
	names := strings.Split(run(t, "../..", nil, "git", "ls-files", "-z", "--cached", "--others",
		"--exclude-standard"), "\x00")
	for _, name := range names {
		from := filepath.Join("../..", name)
		info, err := os.Lstat(from)
		if name == "" || err != nil { // one that was removed
			continue
		}
		data, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		p := filepath.Join(to, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, data, info.Mode().Perm()); err != nil {
			t.Fatal(err)
		}
	}
	as := []string{
		"GIT_AUTHOR_NAME=maria", "GIT_AUTHOR_EMAIL=maria@localhost", "GIT_COMMITTER_NAME=maria",
		"GIT_COMMITTER_EMAIL=maria@localhost", "GIT_COMMITTER_DATE=2026-11-16T07:30:00Z",
		"GIT_AUTHOR_DATE=2026-11-16T07:30:00Z",
	}
	run(t, to, as, "git", "init", "-q")
	run(t, to, as, "git", "add", "-A")
	run(t, to, as, "git", "commit", "-q", "-m", "All of it")
}

func run(t *testing.T, dir string, env []string, words ...string) string {
	t.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("%q: %v\n%s%s", words, err, out.Bytes(), errs.Bytes())
	}
	return out.String()
}

// compare holds two folders against each other, byte for byte.
func compare(t *testing.T, one, other string) {
	t.Helper()
	names := map[string]bool{}
	for _, dir := range []string{one, other} {
		entries, err := os.ReadDir(dir)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			names[e.Name()] = true
		}
	}
	if len(names) != 7 { // two archives, two bills, two packages, the sums
		t.Errorf("made: %v", names)
	}
	for name := range names {
		a, err1 := os.ReadFile(filepath.Join(one, name))
		b, err2 := os.ReadFile(filepath.Join(other, name))
		if err1 != nil || err2 != nil || !bytes.Equal(a, b) {
			t.Errorf("%s is not the same twice (%v, %v)", name, err1, err2)
		}
	}
}

// made is the one file of a release with an ending.
func made(t *testing.T, dir, ending string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "*"+ending))
	if err != nil || len(found) != 1 {
		t.Fatalf("%s: %v %v", ending, found, err)
	}
	return found[0]
}

// readPages has the formatter of manual pages warn of what it does not take.
func readPages(t *testing.T, dir string) {
	to := t.TempDir()
	run(t, to, nil, "tar", "xzf", made(t, dir, ".tar.gz"), "--strip-components=1")
	pages, err := filepath.Glob(filepath.Join(to, "man/*"))
	if err != nil || len(pages) < 30 {
		t.Fatal(pages, err)
	}
	for _, page := range pages {
		cmd := exec.Command("man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", "-Z", page)
		cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "MANROFFSEQ=", "MANWIDTH=80")
		var errs bytes.Buffer
		cmd.Stderr = &errs
		if err := cmd.Run(); err != nil || errs.Len() > 0 {
			t.Errorf("%s: %v %s", filepath.Base(page), err, errs.Bytes())
		}
	}
	text := run(t, to, []string{"MANWIDTH=80", "LC_ALL=C.UTF-8"}, "man", "-l", pages[0])
	for _, odd := range []string{"[=", "=[]", "=\"", "0s"} {
		if strings.Contains(text, odd) {
			t.Errorf("%q stands in %s", odd, filepath.Base(pages[0]))
		}
	}
}

// install puts each package into a machine and takes it away again, once with
// nothing set up and once with changes in force. What is in force works on.
func install(t *testing.T, dir string) {
	const inside, books = "/root/package", "--dbpath=/var/lib/rpm"
	for kind, how := range map[string]struct{ in, out []string }{
		".deb": {
			[]string{"chroot", "MACHINE", "dpkg", "-i", inside},
			[]string{"chroot", "MACHINE", "dpkg", "-P", "calmdawn"},
		},
		".rpm": { // Debian's program for a machine that has none
			[]string{"rpm", "--root=MACHINE", books, "--nodeps", "-i", inside},
			[]string{"rpm", "--root=MACHINE", books, "--nodeps", "-e", "calmdawn"},
		},
	} {
		t.Run(kind, func(t *testing.T) {
			m := boottest.New(t, map[string]string{
				"etc/systemd/system/lamp.service": "[Service]\nType=oneshot\n" +
					"ExecStart=/usr/bin/mark lamp\n[Install]\nWantedBy=multi-user.target\n",
				"etc/systemd/system/multi-user.target.wants/lamp.service": "-> ../lamp.service",
				// goes off when the recorder has written its record
				"etc/systemd/system/last.service": "[Unit]\nAfter=graphical.target\n" +
					"[Service]\nExecStart=/bin/sh -c 'sleep 1; while systemctl -q is-active " +
					"calmdawn-recorder && ! systemctl show -p StatusText calmdawn-recorder | " +
					"grep -q Recorded; do sleep 1; done; systemctl --no-block poweroff'\n",
			})
			data, err := os.ReadFile(made(t, dir, kind))
			if err != nil {
				t.Fatal(err)
			}
			from := m.Dir + inside
			if kind == ".rpm" {
				from = filepath.Join(t.TempDir(), "package")
			}
			if err := os.WriteFile(from, data, 0o644); err != nil {
				t.Fatal(err)
			}
			// as on a machine that runs, or that a rescue system entered
			const within = `mount -t proc proc "$1/proc" && shift && exec "$@"`
			entered := func(words ...string) string {
				t.Helper()
				words = append([]string{"unshare", "--mount", "sh", "-c", within, "sh", m.Dir},
					words...)
				return run(t, dir, []string{"DEBIAN_FRONTEND=noninteractive"}, words...)
			}
			call := func(words []string) string {
				t.Helper()
				words = slices.Clone(words)
				for i := range words {
					words[i] = strings.ReplaceAll(words[i], "MACHINE", m.Dir)
					if kind == ".rpm" && words[i] == inside {
						words[i] = from
					}
				}
				return entered(words...)
			}
			before := filesOf(t, m.Dir)
			call(how.in)
			if text := call(how.out); strings.Contains(text, "stays") {
				t.Errorf("nothing stays, and it says:\n%s", text)
			}
			if diff := testtree.Diff(before, filesOf(t, m.Dir)); diff != "" {
				t.Fatalf("after it was taken away:\n%.2000s", diff)
			}
			calmdawn := func(words ...string) string {
				t.Helper()
				words = append([]string{m.Dir + "/usr/bin/calmdawn", "--root", m.Dir}, words...)
				return run(t, dir, nil, words...)
			}
			call(how.in)
			calmdawn("disable", "lamp.service", "--yes", "--guard", "on")
			calmdawn("recorder", "on", "--yes")
			if text := call(how.out); !strings.Contains(text, "undo --all") ||
				!strings.Contains(text, "recorder off") {
				t.Errorf("that something stays is not said:\n%s", text)
			}
			if launched := m.Boot(t); len(launched) > 0 {
				t.Errorf("launched although switched off: %v", launched)
			}
			call(how.in)
			if text := calmdawn("boots", "--json"); !strings.Contains(text, `"recorder"`) {
				t.Errorf("without its package the recorder recorded nothing:\n%s", text)
			}
			calmdawn("undo", "--all", "--yes")
			calmdawn("recorder", "off", "--yes")
			call(how.out)
			if launched := m.Boot(t); strings.Join(launched, " ") != "lamp" {
				t.Errorf("launched after all was taken back: %v", launched)
			}
		})
	}
}

// filesOf are those of a machine, but for the books of package managers. Of a
// folder the time does not count.
func filesOf(t *testing.T, dir string) string {
	t.Helper()
	var kept strings.Builder
	for line := range strings.Lines(testtree.Snapshot(t, dir, func(p string) bool {
		return strings.HasPrefix(p, "/var/lib/dpkg") || strings.HasPrefix(p, "/var/lib/rpm") ||
			strings.HasPrefix(p, "/var/log") || strings.HasPrefix(p, "/var/cache")
	})) {
		if words := strings.Fields(line); len(words) > 3 && strings.HasPrefix(words[1], "d") {
			line = strings.Join(words[:3], " ") + "\n"
		}
		kept.WriteString(line)
	}
	return kept.String()
}

// startOnWindows starts the program of the archive, far from a real Windows.
func startOnWindows(t *testing.T, dir string) {
	archive := made(t, dir, ".zip")
	r, err := zip.OpenReader(archive)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	name := strings.TrimSuffix(filepath.Base(archive), ".zip")
	data, err := fs.ReadFile(r, name+"/calmdawn.exe")
	if err != nil {
		t.Fatal(err)
	}
	w := windowstest.NewRuntime(t)
	if err := os.WriteFile(w.Drive("calmdawn.exe"), data, 0o755); err != nil {
		t.Fatal(err)
	}
	if text := w.Run("wine", `C:\calmdawn.exe`, "--version"); !strings.Contains(text,
		"windows/amd64") || !strings.Contains(text, "calmdawn v0.0.0-20261116073000-") {
		t.Errorf("it says %q", text)
	}
}
