package drift

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestCompare(t *testing.T) {
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	before := []Item{
		{ID: "same", State: "on", Command: "x"},
		{ID: "gone", State: "on", Package: "p"},
		{ID: "altered", State: "on", Command: "/bin/a"},
		{ID: "started", State: "off"},
		{ID: "stopped", State: "on"},
		{ID: "ours", State: "on"},
		{ID: "again", State: "off", Package: "cue", Version: "1"},
		{ID: "broke", State: "on"},
		{ID: "moved", State: "on", When: "boot"},
	}
	after := []Item{
		{ID: "same", State: "on", Command: "x"},
		{ID: "new", State: "on"},
		{ID: "altered", State: "on", Command: "/tmp/b"},
		{ID: "started", State: "on"},
		{ID: "stopped", State: "off"},
		{ID: "ours", State: "off"},
		{ID: "again", State: "on", Package: "cue", Version: "2"},
		{ID: "broke", State: "broken"},
		{ID: "moved", State: "on", When: "login"},
	}
	ours := map[string]Decision{
		"ours":  {4, at.Add(time.Hour), "off"},
		"again": {3, at.Add(-time.Hour), "off"},
	}
	events := []Event{
		{At: at.Add(-2 * time.Hour), What: "installed", Package: "cue"},
		{At: at.Add(-30 * time.Minute), What: "upgraded", Package: "cue"},
		{At: at.Add(time.Hour), What: "removed", Package: "p"},
	}
	var got []string
	for _, d := range Compare(before, after, at, ours, events) {
		by, _, _ := strings.Cut(d.By, " on ")
		got = append(got, strings.TrimSpace(fmt.Sprintf("%s %s %d %s", d.ID, d.Kind, d.Ours, by)))
	}
	want := "again on again 0 package cue, upgraded|new new 0|started switched on 0|altered " +
		"altered 0|broke otherwise 0|moved otherwise 0|ours switched off 4|stopped switched off " +
		"0|gone gone 0 package p, removed"
	if strings.Join(got, "|") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.ReplaceAll(want, "|", "\n"))
	}
}

// TestLasting holds a running machine against its disk, which does not show
// what is generated.
func TestLasting(t *testing.T) {
	running := []Item{
		{ID: "both", State: "on", Generated: true}, {ID: "made", State: "on", Generated: true},
		{ID: "getty", State: "on", Generated: true}, {ID: "plain", State: "on"},
	}
	disk := []Item{
		{ID: "both", State: "on"}, {ID: "getty", State: "off"}, {ID: "new", State: "on"},
	}
	ids := func(all []Item) (text string) {
		for _, i := range all {
			text += i.ID + " "
		}
		return text
	}
	a, b := Lasting(running, disk)
	if ids(a) != "both plain " || ids(b) != "both new " {
		t.Errorf("%s, %s", ids(a), ids(b))
	}
}
