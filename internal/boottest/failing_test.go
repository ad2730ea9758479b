//go:build linux

package boottest_test

import (
	"fmt"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
	"calmdawn/internal/ring"
)

// TestFailuresAndRestarts boots a machine on which services fail, are started
// again, run into their timeout and are skipped. Of each the first try counts,
// by the log and by the recorder, and a forecast without them comes true.
func TestFailuresAndRestarts(t *testing.T) {
	ring.Needs(t, ring.Outer)
	ring.Measure(t, failAndRestart)
}

func failAndRestart(t testing.TB) {
	g := &maker{files: map[string]string{}}
	add := func(name, unit, text string) {
		g.names = append(g.names, name)
		g.files["etc/systemd/system/"+name] = "[Unit]\nBefore=multi-user.target\n" + unit +
			"[Service]\n" + text + "[Install]\nWantedBy=multi-user.target\n"
		g.files["etc/systemd/system/multi-user.target.wants/"+name] = "-> ../" + name
	}
	const thrice = "StartLimitIntervalSec=60\nStartLimitBurst=3\n"
	// the fourth is refused: they were started too often
	add("flaky.service", thrice, "Type=oneshot\nRestart=on-failure\nRestartSec=400ms\n"+
		"ExecStart=/bin/sh -c '/usr/bin/burn 100; sleep 0.7; exit 1'\n")
	add("crash.service", thrice, "Type=simple\nRestart=always\nRestartSec=300ms\n"+
		"ExecStart=/bin/sh -c 'sleep 0.4; exit 3'\n")
	add("stuck.service", "", "Type=notify\nTimeoutStartSec=2\nExecStart=/bin/sleep 60\n")
	add("skipped.service", "ConditionPathExists=/nowhere\n", "ExecStart=/bin/sleep 60\n")
	add("waits.service", "After=stuck.service flaky.service crash.service\n",
		"Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sleep 0.6\n")
	tr := newTrial(t, g, 2)
	before := tr.boot(3)
	if len(before) == 0 {
		t.Fatal("no boot of it is fit")
	}
	r, err := machine.Open(tr.m.Dir)
	ok(t, err)
	defer r.Close()
	log := journal.Read(r, 1).Boots[0]
	books := recorded(t, r)
	kept := books[len(books)-1]
	for source, b := range map[string]boot.Boot{
		"the log":         log,
		"the recorder":    kept,
		"both, log first": boot.Merge([]boot.Boot{log}, []boot.Boot{kept})[0],
		"both, log last":  boot.Merge([]boot.Boot{kept}, []boot.Boot{log})[0],
	} {
		for _, s := range b.Spans {
			if s.Begin.Known && s.End.Known && s.End.Value < s.Begin.Value {
				t.Errorf("%s: %s ends before it begins", source, s.Native)
			}
		}
		if source == "the recorder" {
			continue // alone it knows the last tries only, and says nothing of when they were done
		}
		for name, want := range map[string]struct {
			took          time.Duration
			tries         int
			fails, passed bool
		}{
			"flaky.service":   {800 * time.Millisecond, 4, true, false},
			"crash.service":   {0, 4, true, false},
			"stuck.service":   {2 * time.Second, 0, true, false},
			"skipped.service": {0, 0, false, true},
			"waits.service":   {600 * time.Millisecond, 0, false, false},
		} {
			s, ok := b.Span(name)
			own := s.OwnTime()
			if !ok || s.Failed != want.fails || s.Skipped != want.passed ||
				s.Tries != want.tries || own.Known && (own.Value-want.took).Abs() > want.took/4 {
				t.Errorf("%s: %s: %+v; want %+v", source, name, s, want)
			}
		}
		stuck, _ := b.Span("stuck.service")
		if waits, _ := b.Span("waits.service"); waits.First() < stuck.End.Value {
			t.Errorf("%s: what waits began at %v, before %v", source, waits.First(), stuck.End)
		}
	}
	out, measured := tr.try("disable", tr.items[:3], before, 2)
	if !measured {
		t.Fatal("no boot without them is fit")
	}
	t.Log(fmt.Sprintf("%+v", out), "wrong by", out.wrong())
	if out.wrong() > 0.2 || out.Saving < 1.2 {
		t.Errorf("the forecast saving was %.2f s of %.2f, and it took %.2f without them",
			out.Saving, out.Now, out.Then)
	}
}
