package visit_test

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/proposal"
	"calmdawn/internal/demo"
	"calmdawn/internal/document"
	"calmdawn/internal/testtree"
	"calmdawn/internal/visit"
)

// mill is a small machine: its pump is needed by its wheel and can be started
// by a socket, and one service is protected.
func mill(t *testing.T) visit.Site {
	t.Helper()
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_CONFIG_HOME", home)
	const lib, etc = "usr/lib/systemd/system/", "etc/systemd/system/"
	const install = "[Install]\nWantedBy=multi-user.target\n"
	const entry = "[Desktop Entry]\nType=Application\nName=Gate\nExec=/usr/bin/gate\n"
	files := map[string]string{
		"etc/machine-id": "11112222333344445555666677778888\n",
		"etc/hostname":   "mill\n",
		"etc/passwd": fmt.Sprintf("root:x:0:0::/root:/bin/sh\nmaria:x:%d:%d::/home/maria:/bin/sh\n",
			1000+os.Getuid(), os.Getgid()),
		"usr/bin/gate": "", "usr/bin/run": "", "home/maria/": "", "root/": "",
		"var/lib/":                                  "",
		"usr/share/xsessions/plain.desktop":         "[Desktop Entry]\nDesktopNames=Plain\n",
		"etc/xdg/autostart/gate.desktop":            entry,
		"etc/xdg/autostart/gate-2.desktop":          entry,
		lib + "default.target":                      "-> multi-user.target",
		lib + "multi-user.target":                   "[Unit]\nDescription=x\n",
		lib + "sockets.target":                      "[Unit]\nDescription=x\n",
		etc + "multi-user.target.wants/pump.socket": "-> /" + lib + "pump.socket",
		lib + "pump.socket":                         "[Socket]\nListenStream=/run/pump\n",
		lib + "wheel.service": "[Unit]\nRequires=pump.service\nAfter=pump.service\n" +
			"[Service]\nExecStart=/usr/bin/run\n" + install,
	}
	for _, name := range []string{"pump", "lamp", "NetworkManager"} {
		files[lib+name+".service"] = "[Service]\nExecStart=/usr/bin/run\n" + install
	}
	for _, name := range []string{"pump", "lamp", "NetworkManager", "wheel"} {
		files[etc+"multi-user.target.wants/"+name+".service"] = "-> /" + lib + name + ".service"
	}
	dir := testtree.Make(t, files)
	for _, name := range []string{"run", "gate"} {
		if err := os.Chmod(filepath.Join(dir, "usr/bin", name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return visit.Site{Dir: dir, Now: func() time.Time { return now }, By: "maria"}
}

func sit(t *testing.T, p visit.Site) *visit.Session {
	t.Helper()
	d, err := p.Lock(now)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// names are the native names of what a change decides on, with what becomes of
// each.
func names(c change.Change) string {
	var all []string
	for _, target := range c.Targets {
		_, name, _ := strings.Cut(target.ID, ":")
		all = append(all, name+" "+string(target.After))
	}
	return strings.Join(all, ", ")
}

// off is the wish to switch items off.
func off(ids ...string) visit.Wish {
	return visit.Wish{Verb: change.Disable, To: item.Off, IDs: ids, Guard: visit.GuardOff}
}

// TestWishes plans wishes of every kind, and refuses those that cannot be.
func TestWishes(t *testing.T) {
	d := sit(t, mill(t))
	with := func(w visit.Wish, change func(*visit.Wish)) visit.Wish {
		change(&w)
		return w
	}
	for name, c := range map[string]struct {
		wish    visit.Wish
		want    string
		refused string
	}{
		"one":                  {off("lamp"), "lamp.service off", ""},
		"two":                  {off("lamp", "wheel"), "lamp.service off, wheel.service off", ""},
		"same":                 {off("lamp", "service:lamp.service"), "lamp.service off", ""},
		"by a pattern":         {off("program:*"), "gate-2.desktop off, gate.desktop off", ""},
		"a pattern of nothing": {off("task:*"), "", "no item like"},
		"with what needs it": {with(off("pump.service"), func(w *visit.Wish) {
			w.Dependents = true
		}), "pump.service off, wheel.service off", ""},
		"with what starts it": {with(off("pump.service"), func(w *visit.Wish) {
			w.Starters = true
		}), "pump.service off, pump.socket off", ""},
		"by what they are": {with(off(), func(w *visit.Wish) {
			w.Filter = visit.Filter{Kind: []string{"program"}}
		}), "gate-2.desktop off, gate.desktop off", ""},
		"none is so": {with(off(), func(w *visit.Wish) {
			w.Filter = visit.Filter{Kind: []string{"task"}}
		}), "", "matches"},
		"protected": {off("NetworkManager"), "", "service:NetworkManager.service is protected"},
		"protected, insisting": {with(off("NetworkManager"), func(w *visit.Wish) {
			w.Insist = []string{"NetworkManager"}
		}), "NetworkManager.service off", ""},
		"insisting on another": {with(off("NetworkManager"), func(w *visit.Wish) {
			w.Insist = []string{"lamp"}
		}), "", "service:NetworkManager.service is protected"},
		"on already": {visit.Wish{Verb: change.Enable, To: item.On, IDs: []string{"lamp"},
			Guard: visit.GuardOff}, "", ""},
		"late": {visit.Wish{Verb: change.Delay, To: item.Delayed, IDs: []string{"lamp"},
			By: time.Minute, Guard: visit.GuardOff}, "lamp.service delayed", ""},
		"needed, late": {visit.Wish{Verb: change.Delay, To: item.Delayed,
			IDs: []string{"pump.service"}, By: time.Minute, Guard: visit.GuardOff}, "",
			"cannot be delayed"},
		"best, without boots": {visit.Wish{Verb: change.Disable, To: item.Off, Best: true,
			Guard: visit.GuardOff}, "", "would bring most is not known"},
	} {
		turning, err := d.PlanTurn(c.wish)
		switch {
		case c.refused != "":
			if err == nil || !strings.Contains(err.Error(), c.refused) {
				t.Errorf("%s: %v, planned %s", name, err, names(turning.Change))
			}
		case err != nil || names(turning.Change) != c.want:
			t.Errorf("%s: %s, %v; want %s", name, names(turning.Change), err, c.want)
		}
	}
	if all := d.Ledger.Changes(); len(all) > 0 {
		t.Errorf("planning recorded %v", all)
	}
}

// decide carries a wish out.
func decide(t *testing.T, d *visit.Session, w visit.Wish) change.Change {
	t.Helper()
	turning, err := d.PlanTurn(w)
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.CarryOut(turning.Change, &turning.Guard)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestTakingBack undoes changes one by one and all at once, leaves alone what
// somebody else has changed since, and overwrites it when told to.
func TestTakingBack(t *testing.T) {
	p := mill(t)
	before := testtree.Snapshot(t, p.Dir, ours)
	d := sit(t, p)
	first, second := decide(t, d, off("lamp")), decide(t, d, off("wheel", "gate.desktop"))
	gate := filepath.Join(p.Dir, "etc/xdg/autostart/gate.desktop")
	if err := os.WriteFile(gate, []byte("[Desktop Entry]\nName=Other\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	untouched := (*visit.NotUndone)(nil)
	_, err := d.PlanUndo([]int64{second.ID, first.ID}, visit.Undoing{})
	if !errors.As(err, &untouched) || untouched.Change != second.ID {
		t.Errorf("a file of somebody else: %v", err)
	}
	how := visit.Undoing{All: true, Overwrite: true}
	undo, err := d.PlanUndo([]int64{second.ID, first.ID}, how)
	if err != nil || len(undo.Plans) != 2 || len(undo.Left) > 0 {
		t.Fatalf("%+v, %v", undo, err)
	}
	if done, err := d.TakeBack(undo.Plans, how); err != nil || len(done) != 2 {
		t.Fatalf("%d of two are undone: %v", len(done), err)
	}
	if now := testtree.Snapshot(t, p.Dir, ours); now != before {
		t.Errorf("it is not as it was:\n%s", testtree.Diff(before, now))
	}
	_, err = d.PlanUndo([]int64{first.ID}, visit.Undoing{})
	if err == nil || !strings.Contains(err.Error(), "already undone") {
		t.Errorf("twice: %v", err)
	}
}

// ours leaves out what is calmdawn's own in a machine.
func ours(p string) bool { return strings.HasPrefix(p, "/var") }

// TestProposalsAreResolved says what becomes of each decision of a proposal on
// a machine that is not the one it was written for.
func TestProposalsAreResolved(t *testing.T) {
	d := sit(t, mill(t))
	switched := decide(t, d, off("lamp"))
	p := proposal.Proposal{Decide: []proposal.Decision{
		{ID: "service:wheel.service", Do: proposal.Disable},
		{ID: "service:lamp.service", Do: proposal.Enable},
		{ID: "service:pump.service", Do: proposal.Keep},
		{ID: "service:gone.service", Do: proposal.Disable},
		{ID: "program:gate.desktop", Do: proposal.Enable},
		{ID: "program:gate-2.desktop", Do: proposal.Disable},
	}}
	fates := func(all []visit.Resolved) string {
		var texts []string
		for _, r := range all {
			texts = append(texts, r.Fate)
		}
		return strings.Join(texts, "; ")
	}
	back := fmt.Sprintf("will be switched on: change %d is taken back", switched.ID)
	for name, c := range map[string]struct {
		terms   visit.Terms
		fates   string
		changes string
	}{
		"all": {visit.Terms{Guard: visit.GuardOff}, "will be switched off; " + back + "; is " +
			"kept; does not exist here; is on already; will be switched off",
			"lamp.service on | wheel.service off | gate-2.desktop off"},
		"together": {visit.Terms{Guard: visit.GuardOff, Together: true}, "will be switched off; " +
			back + "; is kept; does not exist here; is on already; will be switched off",
			"lamp.service on | wheel.service off, gate-2.desktop off"},
		"the next": {visit.Terms{Guard: visit.GuardOff, Next: true}, "will be switched off; " +
			"comes later; is kept; does not exist here; is on already; comes later",
			"wheel.service off"},
	} {
		a, err := d.PlanProposal(p, c.terms)
		if err != nil || a.Missing != 1 {
			t.Errorf("%s: %d missing, %v", name, a.Missing, err)
		}
		var changes []string
		for _, c := range a.Changes {
			changes = append(changes, names(c))
		}
		if got := fates(a.All); got != c.fates {
			t.Errorf("%s: %s\nwant %s", name, got, c.fates)
		}
		if got := strings.Join(changes, " | "); got != c.changes {
			t.Errorf("%s: %s, want %s", name, got, c.changes)
		}
	}
	p.Decide = append(p.Decide, proposal.Decision{
		ID: "service:NetworkManager.service", Do: proposal.Disable,
	})
	if _, err := d.PlanProposal(p, visit.Terms{}); !errors.As(err, new(*visit.Protected)) {
		t.Errorf("a protected item: %v", err)
	}
}

// TestPlacesThatAreNone says of folders that are no machine's disk what they
// look like, and of those whose casebook would be lost that it would.
func TestPlacesThatAreNone(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"empty":      {nil, "it is empty"},
		"a Mac's":    {map[string]string{"System/": "", "Library/": ""}, "the disk of a Mac"},
		"half":       {map[string]string{"Windows/notepad.exe": ""}, "no registry"},
		"firmware's": {map[string]string{"EFI/": ""}, "firmware starts from"},
		"a loader's": {map[string]string{"boot/": ""}, "only starts another one"},
		"recovery":   {map[string]string{"Recovery/": ""}, "a recovery partition"},
		"an etc":     {map[string]string{"etc/notes": ""}, "nothing else of a Linux machine"},
		"pictures":   {map[string]string{"cat.png": ""}, "neither a folder etc nor"},
	} {
		p := visit.Site{Dir: testtree.Make(t, c.files), Now: time.Now}
		if _, err := p.Look(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	gone := visit.Site{Dir: filepath.Join(t.TempDir(), "gone"), Now: time.Now}
	if _, err := gone.Look(); err == nil || !strings.Contains(err.Error(), "no such folder") {
		t.Errorf("a folder that is not there: %v", err)
	}
	p := mill(t)
	fstab := filepath.Join(p.Dir, "etc/fstab")
	err := os.WriteFile(fstab, []byte("/dev/sda2 /var ext4 defaults 0 2\n"), 0o644)
	if err != nil {
		t.Fatal(err)
	}
	d := sit(t, p)
	if d.Barred == nil || !strings.Contains(d.Barred.Error(), "not mounted") {
		t.Errorf("without its /var: %v", d.Barred)
	}
	turning, err := d.PlanTurn(off("lamp"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.CarryOut(turning.Change, nil); !errors.Is(err, d.Barred) {
		t.Errorf("carried out: %v", err)
	}
}

// TestSurveysAreKept keeps a survey, and tells what is otherwise since.
func TestSurveysAreKept(t *testing.T) {
	p := mill(t)
	v := look(t, p)
	if _, err := v.Kept(0); !errors.Is(err, visit.ErrNoSurvey) {
		t.Errorf("before one was kept: %v", err)
	}
	facts := func(item.Item) document.Facts { return document.Facts{} }
	number, _, err := v.Keep(document.NewList(v.Survey, v.Items, 0, nil, facts))
	if err != nil || number != 1 {
		t.Fatal(number, err)
	}
	decide(t, sit(t, p), off("lamp"))
	err = os.Remove(filepath.Join(p.Dir, "etc/xdg/autostart/gate.desktop"))
	if err != nil {
		t.Fatal(err)
	}
	after := look(t, p)
	kept, err := after.Kept(0)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, d := range after.Drift(kept, after.PresentSurvey()) {
		all = append(all, fmt.Sprintf("%s %s by %d", d.ID, d.Kind, d.Ours))
	}
	want := "service:lamp.service switched off by 0; program:gate.desktop gone by 0"
	if got := strings.Join(all, "; "); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if _, err := after.Kept(7); !errors.As(err, new(*visit.Misuse)) {
		t.Errorf("of a number that there is none: %v", err)
	}
}

// TestComparisons holds the demo machine's boots before and after a change
// against each other, and keeps what came of it.
func TestComparisons(t *testing.T) {
	p := place(t)
	d := sit(t, p)
	v := look(t, p)
	if _, ok, err := v.Compare(visit.Question{}, v.Remember(0).Boots); ok || err != nil {
		t.Errorf("before any change: %v, %v", ok, err)
	}
	c := decide(t, d, off("star-index"))
	if err := d.Close(); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		at := now.Add(time.Duration(i+1) * time.Hour)
		if _, err := demo.Reboot(p.Dir, at, uint64(i)); err != nil {
			t.Fatal(err)
		}
	}
	p.Now = func() time.Time { return now.Add(5 * time.Hour) }
	v = look(t, p)
	boots := v.Remember(0).Boots
	answer, ok, err := v.Compare(visit.Question{}, boots)
	if err != nil || !ok || len(answer.Sides.After) != 3 || len(answer.Sides.Before) < 3 {
		t.Fatalf("%v, %v, %+v", ok, err, answer.Sides)
	}
	if err := v.KeepOutcome(answer); err != nil {
		t.Fatal(err)
	}
	changes, err := v.ReadChanges()
	if o := changes[0].Outcome; err != nil || changes[0].ID != c.ID || o == nil {
		t.Errorf("of change %d is kept: %v, %v", c.ID, o, err)
	}
	_, _, err = v.Compare(visit.Question{Words: []string{"no-such"}}, boots)
	if !errors.As(err, new(*visit.Misuse)) {
		t.Errorf("boots that are none: %v", err)
	}
}
