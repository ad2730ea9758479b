//go:build linux

package boottest_test

import (
	"compress/gzip"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/core/boot"
	"calmdawn/internal/family"
	"calmdawn/internal/linux"
	"calmdawn/internal/machine"
)

// TestKeepBoots makes the recorded boots of internal/linux/testdata anew, in
// the folder that CALMDAWN_KEEP names. The figures that stand beside them have
// to be made anew then as well.
func TestKeepBoots(t *testing.T) {
	t.Parallel()
	folder := os.Getenv("CALMDAWN_KEEP")
	if folder == "" {
		t.Skip("it replaces what other tests go by; CALMDAWN_KEEP=FOLDER makes it")
	}
	small := &maker{rng: rand.New(rand.NewPCG(1, 1)), files: map[string]string{}}
	small.service("oneshot", nil, 300, 1500, 0)
	small.service("oneshot", []string{"item-0.service"}, 1200, 100, 0)
	small.service("simple", nil, 0, 0, 2500)
	small.service("oneshot", nil, 400, 900, 0)
	for _, c := range []struct {
		name       string
		made       *maker
		processors int
	}{
		{"small", small, 1},
		{"crowded", randomMachine(5), 1},
		{"wide", randomMachine(9), 2},
	} {
		tr := newTrial(t, c.made, c.processors)
		if good := tr.boot(1); len(good) == 0 {
			t.Fatalf("%s: no boot is fit to compare", c.name)
		}
		keepBoot(t, tr.m, filepath.Join(folder, c.name+".json.gz"), true)
		if c.name == "wide" {
			keepBoot(t, tr.m, filepath.Join(folder, "logged.json.gz"), false)
		}
	}
	m := loginMachine(t)
	calm(t, program(t), m, "recorder", "on", "--yes")
	m.Boot(t)
	m.Boot(t)
	keepBoot(t, m, filepath.Join(folder, "logins.json.gz"), true)
}

// keepBoot writes down the last boot of a machine, as its recorder saw it or as
// its log and its unit files tell it.
func keepBoot(t testing.TB, m *boottest.Machine, file string, byRecorder bool) {
	t.Helper()
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	var known []boot.Boot
	if byRecorder {
		known = recorded(t, r)
	}
	boots := family.Remember(linux.Family{}.Open(r), known, 1).Boots
	boots = linux.Survey(r, family.Options{Now: time.Now()}).Order(boots)
	text, err := json.Marshal(boots[0])
	ok(t, err)
	f, err := os.Create(file)
	ok(t, err)
	z := gzip.NewWriter(f)
	_, err = z.Write(text)
	ok(t, err)
	ok(t, z.Close())
	ok(t, f.Close())
}
