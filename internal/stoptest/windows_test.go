//go:build linux && amd64

package stoptest_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"calmdawn/internal/ring"
	"calmdawn/internal/stoptest"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/windowstest"
)

// Items of every kind that a Windows disk has switched, in four hives. Notes of
// what is off are missing for some, so that keys are made.
const ofWindows = "service:Handrail program:run/Handrail-Panel#4ab3 " +
	"program:startup/Label-desk.lnk#627d program:run/Lanternfile@nora " +
	"program:run32/Inkerholm-Offers#19e0 program:app/Humdrift.Lamp_k0dn7qz2r4w6e/LampOnStart@ivo"

// TestStopsOnAWindowsDisk kills the built program before writing calls of
// changes and undos on a Windows disk, in a folder and on a real NTFS volume.
// It does what a person would do next, and takes all back. The registry has to
// be whole at once, and as it was in the end.
func TestStopsOnAWindowsDisk(t *testing.T) {
	ring.Needs(t, ring.Middle)
	plain := t.TempDir() + "/gnomon"
	if out, err := exec.Command(program, "demo", "--family", "windows", "--keep",
		plain).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for _, where := range []string{"folder", "ntfs", "ntfs, of a machine that died"} {
		t.Run(where, func(t *testing.T) {
			dir := t.TempDir()
			machine := dir + "/machine"
			must(t, os.Mkdir(machine, 0o755))
			if where != "folder" {
				windowstest.Mount(t, machine, 40)
			}
			if strings.HasSuffix(where, "died") {
				dead := t.TempDir() + "/gnomon"
				out, err := exec.Command("cp", "-r", plain, dead).CombinedOutput()
				if err != nil {
					t.Fatalf("%v %s", err, out)
				}
				stopOnWindows(t, dir, dead, killed(t, dead))
				return
			}
			stopOnWindows(t, dir, plain, nil)
		})
	}
}

// killed leaves two hives of a disk behind their logs, and returns their bytes.
func killed(t *testing.T, disk string) map[string][]byte {
	t.Helper()
	rng := rand.New(rand.NewPCG(27, 44))
	all := map[string][]byte{}
	for file, key := range map[string]string{
		"/Windows/System32/config/SYSTEM": `ControlSet001\Services\Handrail`,
		"/Users/nora/NTUSER.DAT":          "Software",
	} {
		all[file] = windowstest.Kill(t, rng, disk+file, key, "Last", hive.Binary,
			make([]byte, 3000))
	}
	return all
}

// stopOnWindows stops calls on a disk that is a copy of plain. Of those in
// behind it compares the bytes of the files in the end.
func stopOnWindows(t *testing.T, dir, plain string, behind map[string][]byte) {
	machine := dir + "/machine"
	fresh := func() {
		t.Helper()
		must(t, os.RemoveAll(machine+"/ProgramData/calmdawn"))
		out, err := exec.Command("cp", "-r", plain+"/.", machine).CombinedOutput()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	fresh()
	pristine := windowstest.Registry(t, machine)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 27))
	nexts := []string{
		"undo --all --yes", "disable --yes " + ofWindows,
		"enable --yes program:run/Lanternfile@ivo",
	}
	rounds := ring.Pick(0, 5, 15)
	if os.Getenv("CALMDAWN_STOPS") == "all" {
		rounds = 1000
	}
	for _, undo := range []bool{false, true} {
		call := "disable --yes " + ofWindows
		prepare := func() {
			fresh()
			if undo {
				if out, code := calm(dir, call); code != 0 {
					t.Fatalf("%d %s", code, out)
				}
			}
		}
		words := words(dir, call)
		if undo {
			words = append(words[:2:2], "undo", "--all", "--yes")
		}
		prepare()
		whole, err := stoptest.Run(0, syscall.SIGKILL, program, words...)
		must(t, err)
		if whole.Code != 0 || whole.Calls < 100 {
			t.Fatalf("undo %v: %d, %d calls, %s", undo, whole.Code, whole.Calls, whole.Output)
		}
		for range rounds {
			n := 1 + rng.IntN(whole.Calls)
			prepare()
			r, err := stoptest.Run(n, syscall.SIGKILL, program, words...)
			must(t, err)
			windowstest.Registry(t, machine) // it is whole
			var story strings.Builder
			fmt.Fprintf(&story, "undo %v, stopped before call %d of %d (%s)\n", undo, n,
				whole.Calls, r.Last)
			for i, next := range []string{
				"history", nexts[rng.IntN(len(nexts))], "undo --all --yes",
			} {
				out, code := calm(dir, next)
				fmt.Fprintf(&story, "$ %s\n%s[%d]\n", next, out, code)
				if code < 0 || code > 5 || code != 0 && i != 1 {
					t.Fatal(story.String())
				}
			}
			values, _ := windowstest.Differing(pristine, windowstest.Registry(t, machine))
			if len(values) > 0 {
				t.Fatalf("%sthe registry differs in %q", story.String(), values)
			}
			for file, data := range behind {
				now, err := os.ReadFile(machine + file)
				if err != nil || !bytes.Equal(now, data) {
					t.Fatalf("%s%s does not have its bytes back: %v", story.String(), file, err)
				}
			}
			left, err := filepath.Glob(machine + "/ProgramData/calmdawn/.calmdawn-*")
			if err != nil || len(left) > 0 {
				t.Fatalf("%sleft behind: %v %v", story.String(), left, err)
			}
		}
	}
}
