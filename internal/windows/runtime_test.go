//go:build linux && amd64

package windows_test

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/demo/write"
	"calmdawn/internal/family"
	"calmdawn/internal/ledger"
	"calmdawn/internal/ring"
	"calmdawn/internal/windows"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/registry"
	"calmdawn/internal/windows/windowstest"
)

// A runtime is one in which mark.exe is a service that writes its name down.
type runtime struct {
	*windowstest.Runtime
	t *testing.T
}

func newRuntime(t *testing.T) *runtime {
	t.Helper()
	w := &runtime{windowstest.NewRuntime(t), t}
	build := exec.Command("go", "build", "-ldflags=-s -w", "-o", w.Drive("mark.exe"),
		"./testdata/mark")
	build.Env = append(os.Environ(), "GOOS=windows", "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return w
}

// asImport has a foreign reader make a file for import. It holds the services
// that a SYSTEM hive has for the next boot, of which nothing is left from
// before.
const asImport = `
import hivex, struct, sys
h = hivex.Hivex(sys.argv[1])
def child(n, *names):
    for name in names:
        n = h.node_get_child(n, name)
    return n
number = lambda n, v: struct.unpack("<I", h.value_value(h.node_get_value(n, v))[1])[0]
chosen = "ControlSet%03d" % number(child(h.root(), "Select"), "Default")
here = "HKEY_LOCAL_MACHINE\\System\\CurrentControlSet\\"
out = ["Windows Registry Editor Version 5.00", "", "[%sControl]" % here,
       '"AutoStartDelay"=dword:00000fa0', ""]  # milliseconds there
for n in h.node_children(child(h.root(), chosen, "Services")):
    key = here + "Services\\" + h.node_name(n)
    out += ["[-%s]" % key, "", "[%s]" % key]
    for v in h.node_values(n):
        kind, data = h.value_value(v)
        out.append('"%s"=hex(%x):%s' % (h.value_key(v), kind, ",".join("%02x" % b for b in data)))
    out.append("")
open(sys.argv[2], "wb").write(b"\xff\xfe" + "\r\n".join(out).encode("utf-16le"))
`

// boot has the machine take over a SYSTEM hive, restarts it, and returns what
// it launched, in its order. It waits for so many at least, and what comes soon
// after.
func (w *runtime) boot(system string, least int) (launched []string) {
	w.t.Helper()
	file := w.Drive("import.reg")
	out, err := exec.Command("/usr/bin/python3", "-c", asImport, system, file).CombinedOutput()
	if err != nil {
		w.t.Fatalf("%v %s", err, out)
	}
	w.Run("wine", "regedit", "/S", `C:\import.reg`)
	_, _ = w.Try(time.Minute, "wineserver", "-k", "-w") // where none runs it says so
	if err := os.Remove(w.Drive("marks.txt")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		w.t.Fatal(err)
	}
	w.Run("wineserver", "-p8") // else a service was started twice once
	w.Run("wine", "wineboot")
	read := func() []string {
		marks, _ := os.ReadFile(w.Drive("marks.txt"))
		return strings.Fields(string(marks))
	}
	for range 120 {
		if len(read()) >= least {
			break
		}
		time.Sleep(500 * time.Millisecond)
	}
	time.Sleep(3 * time.Second)
	return read()
}

// takesBack has the machine import what is to take edits back, and export what
// it holds then. Those are values of every form that can be read there, and
// none of those that were not there before.
func (w *runtime) takesBack() {
	w.t.Helper()
	const key = `registry:HKLM\SOFTWARE\Orchard\List`
	value := func(kind hive.Type, data string) change.Node {
		return change.Node{Kind: change.Value, Type: uint32(kind), Data: []byte(data)}
	}
	var edits, others []change.Edit
	for name, before := range map[string]change.Node{
		"Start":           value(hive.DWord, "\x02\x00\x00\x00"),
		"":                value(hive.String, "a\x00\\\x00\"\x00\x00\x00"),
		`a\b "c"`:         value(hive.Binary, "\x03\x00\x00\x00\x01\x02\x03\x04\x05\x06\x07\x08"),
		"Expand":          value(hive.Expand, "%\x00X\x00%\x00\x00\x00"),
		"Many":            value(hive.Multi, "a\x00\x00\x00b\x00\x00\x00\x00\x00"),
		"Gr\u00f6\u00dfe": value(hive.None, "\x00\x01"),
		"Odd":             value(hive.String, "a\x00b"),
		"Gone":            {Kind: change.Absent},
	} {
		e := change.Edit{Path: key + `\\` + name, Before: before, After: value(hive.Binary, "x")}
		edits, others = append(edits, e), append(others, e.Inverse())
	}
	r := opened(w.t, windowstest.New().Make(w.t))
	for _, all := range [][]change.Edit{others, edits} {
		_, data := registry.NewStore(r, nil).Import(all)
		if err := os.WriteFile(w.Drive("back.reg"), data, 0o644); err != nil {
			w.t.Fatal(err)
		}
		w.Run("wine", "regedit", "/S", `C:\back.reg`)
	}
	w.Run("wine", "regedit", "/E", `C:\out.reg`, `HKEY_LOCAL_MACHINE\SOFTWARE\Orchard`)
	raw, err := os.ReadFile(w.Drive("out.reg"))
	if err != nil {
		w.t.Fatal(err)
	}
	text := strings.ReplaceAll(registry.Text(raw), "\\\r\n  ", "")
	var got []string
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); strings.Contains(line, "=") {
			got = append(got, line)
		}
	}
	slices.Sort(got)
	want := []string{
		`"Expand"=hex(2):25,00,58,00,25,00,00,00`, "\"Gr\u00f6\u00dfe\"=hex(0):00,01",
		`"Many"=hex(7):61,00,00,00,62,00,00,00,00,00`, `"Odd"="a"`,
		`"Start"=dword:00000002`,
		`"a\\b \"c\""=hex:03,00,00,00,01,02,03,04,05,06,07,08`, `@="a\\\""`,
	}
	if !slices.Equal(got, want) {
		w.t.Errorf("taken back by the machine:\n%s\nnot\n%s", strings.Join(got, "\n"),
			strings.Join(want, "\n"))
	}
}

// TestRealBootsLaunchWhatIsOn restarts a machine that takes over the registry
// of a disk. It does so before changes, after some of thirty services were
// switched off or delayed, and after that was taken back. It does so once in
// each of two control sets. What each boot launches is what the survey says,
// and no more.
func TestRealBootsLaunchWhatIsOn(t *testing.T) {
	ring.Needs(t, ring.Middle)
	w := newRuntime(t)
	w.takesBack()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 8))
	for set := range ring.Pick[uint32](0, 1, 2) {
		d := windowstest.New()
		d.Files["mark.exe"] = ""
		d.System.At("Select").Set(write.Counted("Default", 1+set))
		for n := range 30 {
			name := fmt.Sprintf("Cb%02d", n)
			for of := range uint32(2) {
				services := d.System.At(fmt.Sprintf(`ControlSet%03d\Services\%s`, 1+of, name))
				start := uint32(2)
				if of != set || rng.IntN(5) == 0 { // what the other set has means nothing
					start = 2 + rng.Uint32N(3)
				}
				services.Set(windowstest.Auto(`C:\mark.exe ` + name)...)
				services.Set(write.Counted("Start", start), write.Counted("ErrorControl", 1),
					write.Texted("ObjectName", hive.String, "LocalSystem"))
			}
		}
		dir := d.Make(t)
		r := opened(t, dir)
		system := dir + "/Windows/System32/config/SYSTEM"
		now := time.Now()
		judge := func(when string) {
			t.Helper()
			var on, late []string
			v := windows.Family{}.Open(r).Survey(family.Options{Now: now})
			for _, it := range v.Found().Items {
				switch {
				case !strings.HasPrefix(it.Native, "Cb"):
				case it.State == item.On:
					on = append(on, it.Native)
				case it.State == item.Delayed:
					late = append(late, it.Native)
				}
			}
			want := slices.Sorted(slices.Values(slices.Concat(on, late)))
			var launched, got []string
			// on a busy computer the runtime gives up a service that is slow to
			// answer; what is off by our fault is off each time
			for try := 0; try < 3 && len(got) < len(want); try++ {
				launched = w.boot(system, len(want))
				got = slices.Sorted(slices.Values(launched))
			}
			if !slices.Equal(got, want) {
				t.Fatalf("set %d, %s: launched %q, and not %q", 1+set, when, got, want)
			}
			for i, name := range launched {
				if slices.Contains(late, name) != (i >= len(on)) {
					t.Errorf("set %d, %s: in the order %q, of which %q are delayed", 1+set, when,
						launched, late)
					break
				}
			}
			t.Logf("set %d, %s: %d at once, %d late", 1+set, when, len(on), len(late))
		}
		judge("before")
		v := windows.Family{}.Open(r).Survey(family.Options{Now: now})
		draft := r.Draft(now)
		plan := v.Turner(draft)
		off, late := 0, 0
		for _, it := range v.Found().Items {
			to := []item.State{item.Off, item.Delayed, item.On}[rng.IntN(3)]
			if it.State != item.On || to == item.On || !strings.HasPrefix(it.Native, "Cb") {
				continue
			}
			if err := plan.Turn(it, to, time.Minute); err != nil {
				t.Fatal(err)
			}
			if off++; to == item.Delayed {
				off, late = off-1, late+1
			}
		}
		if off < 2 || late < 2 {
			t.Fatalf("only %d are switched off, and %d delayed", off, late)
		}
		led := ledgerOf(t, r, now)
		c, err := led.CarryOut(change.Change{Verb: change.Disable, MadeAt: now,
			Edits: draft.Edits()})
		if err != nil {
			t.Fatal(err)
		}
		judge("after")
		undo, err := led.PlanUndo(c.ID, ledger.Undoing{At: now, By: "test"})
		if err == nil {
			_, err = led.CarryOut(undo)
		}
		if err := errors.Join(err, led.Close()); err != nil {
			t.Fatal(err)
		}
		judge("taken back")
	}
}
