// Package ring says how much the tests prove. The inner ring is what go test
// runs, the middle one make test, the outer one make test-all. Only tests use
// it. docs/testing.md says which ring proves which promise.
package ring

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
)

// A Ring is a set of tests; each holds those before it.
type Ring int

// The rings.
const (
	Inner  Ring = iota // no root and no packages needed, under two minutes
	Middle             // real boots, installed tools, under ten minutes
	Outer              // everything, every size and width
)

// Now is the ring that runs: the variable CALMDAWN_RING says which.
func Now() Ring {
	switch os.Getenv("CALMDAWN_RING") {
	case "middle":
		return Middle
	case "outer":
		return Outer
	}
	return Inner
}

// Needs skips a test that belongs to a ring that does not run.
func Needs(t testing.TB, r Ring) {
	t.Helper()
	if Now() < r {
		t.Skipf("%s runs it", map[Ring]string{Middle: "make test", Outer: "make test-all"}[r])
	}
}

// Pick returns what is meant for the ring that runs: how many rounds, say.
func Pick[T any](inner, middle, outer T) T { return []T{inner, middle, outer}[Now()] }

// Program builds calmdawn as it is shipped, once for all packages, and returns
// where this process may call it. It is the caller's to remove with its folder.
func Program() (string, error) { return build("calmdawn", "calmdawn/cmd/calmdawn") }

// Tool builds a program of this module for tests, as [Program] does.
func Tool(name, pkg string) (string, error) { return build(name, pkg) }

// building lets one goroutine build at a time; go's own cache knows what is
// built.
var building sync.Mutex

// build builds a program into the user's cache folder, where it is linked anew
// only if it changed. It copies it to a folder that all users may enter.
func build(name, pkg string) (string, error) {
	building.Lock()
	defer building.Unlock()
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	shared := filepath.Join(cache, "calmdawn", "built")
	if err := os.MkdirAll(shared, 0o755); err != nil {
		return "", err
	}
	unlock, err := lock(filepath.Join(shared, "lock"))
	if err != nil {
		return "", err
	}
	defer unlock()
	built := filepath.Join(shared, name)
	cmd := exec.Command("go", "build", "-trimpath", "-ldflags=-s", "-o", built, pkg)
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("building %s: %w\n%s", pkg, err, out)
	}
	dir, err := os.MkdirTemp("", "calmdawn-built-")
	if err != nil {
		return "", err
	}
	own := filepath.Join(dir, name)
	data, err := os.ReadFile(built)
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err == nil {
		err = os.WriteFile(own, data, 0o755)
	}
	return own, err
}
