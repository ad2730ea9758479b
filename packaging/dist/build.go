package main

import (
	"bytes"
	"debug/buildinfo"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A target is a system and a processor, by Go's names.
type target struct{ system, processor string }

var targets = []target{
	{"linux", "amd64"}, {"linux", "arm64"}, {"windows", "amd64"}, {"darwin", "arm64"},
	{"darwin", "amd64"},
}

func (t target) String() string { return t.system + "/" + t.processor }

func (t target) suffix() string {
	if t.system == "windows" {
		return ".exe"
	}
	return ""
}

// choose reads a list of targets; all where it is empty.
func choose(only string) (chosen []target, err error) {
	if only == "" {
		return targets, nil
	}
	for name := range strings.SplitSeq(only, ",") {
		i := slices.IndexFunc(targets, func(t target) bool { return t.String() == name })
		if i < 0 {
			return nil, fmt.Errorf("there is no target %q; there are %v", name, targets)
		}
		chosen = append(chosen, targets[i])
	}
	return chosen, nil
}

// A checkout is a clean one, of one commit.
type checkout struct {
	dir  string
	date time.Time // the commit's
}

var toolchain = regexp.MustCompile(`(?m)^toolchain (\S+)$`)

// lookAt refuses what would not give the same bytes again: another Go, and
// files that no commit holds.
func lookAt(dir string) (*checkout, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	mod, err := os.ReadFile(filepath.Join(dir, "go.mod"))
	if err != nil {
		return nil, err
	}
	wanted := toolchain.FindSubmatch(mod)
	if wanted == nil {
		return nil, errors.New("go.mod names no toolchain")
	}
	if runtime.Version() != string(wanted[1]) {
		return nil, fmt.Errorf("this is %s, and go.mod names %s; other Go makes other bytes",
			runtime.Version(), wanted[1])
	}
	c := &checkout{dir: dir}
	changed, err := c.run(nil, "git", "status", "--porcelain")
	if err != nil {
		return nil, err
	}
	if len(changed) > 0 {
		return nil, fmt.Errorf("the checkout holds what no commit does; commit it, or use a new "+
			"clone:\n%s", changed)
	}
	stamp, err := c.run(nil, "git", "show", "-s", "--format=%ct", "HEAD")
	if err != nil {
		return nil, err
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(string(stamp)), 10, 64)
	c.date = time.Unix(seconds, 0).UTC()
	return c, err
}

// run calls a program in the checkout, and returns what it printed.
func (c *checkout) run(env []string, name string, args ...string) ([]byte, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = c.dir, append(os.Environ(), env...)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, errs.Bytes())
	}
	return out, nil
}

// A program is one that was built, and what it says of itself.
type program struct {
	data    []byte
	version string // without a v
	info    *buildinfo.BuildInfo
}

// build links the program for a target.
func (c *checkout) build(t target, to string) (*program, error) {
	_, err := c.run([]string{
		"CGO_ENABLED=0", "GOFLAGS=", "GOWORK=off", "GOTOOLCHAIN=local", "GOEXPERIMENT=",
		"GOOS=" + t.system, "GOARCH=" + t.processor, "GOAMD64=v1", "GOARM64=v8.0",
	}, "go", "build", "-trimpath", "-buildvcs=true", "-ldflags=-s", "-o", to, "./cmd/calmdawn")
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(to)
	if err != nil {
		return nil, err
	}
	info, err := buildinfo.Read(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	version, known := strings.CutPrefix(info.Main.Version, "v")
	if !known || strings.Contains(version, "+dirty") {
		return nil, fmt.Errorf("the build does not know its commit: %q", info.Main.Version)
	}
	return &program{data, version, info}, nil
}
