//go:build linux

package workshop

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
)

var day = time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)

// stores are the engines that every test runs on.
func stores(t *testing.T, test func(t *testing.T, s *Store)) {
	t.Run("SQLite", func(t *testing.T) {
		s, err := Open(filepath.Join(t.TempDir(), "w.db"), true)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		test(t, s)
	})
	onServer(t, test)
}

// list is what a machine launches, of which items wait so many seconds.
func list(id string, at time.Time, version string, waits map[string]float64) document.List {
	d := document.List{
		Format: "calmdawn.list/1", Machine: "host-" + id, MachineID: id, Family: "linux",
		Taken: at.Format(time.RFC3339),
	}
	for title, wait := range waits {
		d.Items = append(d.Items, document.Item{
			ID: "service:" + title, Kind: item.Service, Native: title + ".service", Title: title,
			State: item.On, When: item.AtBoot, Maker: "Mastwerk", Advice: "can go",
			Version: version,
			Cost:    &document.Cost{Wait: &document.WaitCost{Seconds: wait}},
		})
	}
	return d
}

func delivered(t *testing.T, d document.List) Delivery {
	t.Helper()
	got, err := FromDocument(d)
	if err != nil {
		t.Fatal(err)
	}
	return got
}

func (s *Store) put(t *testing.T, d Delivery) Added {
	t.Helper()
	a, err := s.Add(d, day.AddDate(0, 0, 30), "maria")
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// boots are starts on one day after another that took so many seconds each.
func boots(id string, from time.Time, took ...float64) (all []boot.Boot) {
	for i, s := range took {
		all = append(all, boot.Boot{
			ID: fmt.Sprintf("%s-%d-%d", id, from.Unix(), i), Began: from.AddDate(0, 0, i),
			Ready: boot.Of(time.Duration(s*float64(time.Second)), boot.Log),
		})
	}
	return all
}

func TestASecondTimeNothingIsNew(t *testing.T) {
	stores(t, func(t *testing.T, s *Store) {
		d := list("a", day, "1", map[string]float64{"poll": 2, "feed": 1})
		one := delivered(t, d)
		one.Tell(d, boots("a", day, 10, 11), nil)
		if a := s.put(t, one); a.New == 0 || a.Known || a.Name != "host-a" {
			t.Errorf("at first %+v", a)
		}
		if a := s.put(t, one); a.New != 0 || !a.Known {
			t.Errorf("the second time %+v", a)
		}
		// an older survey tells of its own time alone
		s.put(t, delivered(t, list("a", day.AddDate(0, 0, -7), "0", map[string]float64{"old": 9})))
		who, err := s.Who("")
		if err != nil || len(who) != 2 || who[0].Version != "1" || who[0].By != "maria" {
			t.Errorf("%+v, %v", who, err)
		}
		// what a newer one lacks is gone
		s.put(t, delivered(t, list("a", day.AddDate(0, 0, 7), "2", map[string]float64{"feed": 1})))
		if who, _ = s.Who(""); len(who) != 1 || who[0].Version != "2" {
			t.Errorf("%+v", who)
		}
		// of places that could not be read, it is not known
		partly := list("a", day.AddDate(0, 0, 8), "2", map[string]float64{"poll": 1})
		partly.Unread = []item.Unread{{Path: "/usr", Reason: "is not mounted"}}
		s.put(t, delivered(t, partly))
		if who, _ = s.Who(""); len(who) != 2 {
			t.Errorf("%+v", who)
		}
		late := delivered(t, list("a", day.AddDate(9, 0, 0), "2", nil))
		if _, err := s.Add(late, day, "maria"); err == nil {
			t.Error("what is yet to come was added")
		}
		if n, err := s.Forget("maria"); n != 1 || err != nil {
			t.Errorf("%d forgotten, %v", n, err)
		}
		if st, _ := s.Standing(); st.Machines+st.Items+st.Boots+st.Decisions != 0 {
			t.Errorf("%+v is left", st)
		}
	})
}

// TestClonesAreToldApart adds three machines of one disk: two by their
// computers, one by its boots.
func TestClonesAreToldApart(t *testing.T) {
	stores(t, func(t *testing.T, s *Store) {
		d := list("a", day, "1", map[string]float64{"poll": 2})
		one, two, three := delivered(t, d), delivered(t, d), delivered(t, d)
		one.HardwareID, two.HardwareID = "x", "y"
		one.Tell(d, boots("one", day, 10, 11, 12), nil)
		three.Tell(d, boots("three", day.Add(time.Hour), 20, 21), nil)
		three.HardwareID = "x"
		names := map[string]bool{}
		for _, machine := range []Delivery{one, two, three, one, two, three} {
			names[s.put(t, machine).Name] = true
		}
		if len(names) != 3 || !names["host-a"] || !names["host-a (2)"] || !names["host-a (3)"] {
			t.Errorf("%v", names)
		}
	})
}

func TestAnswers(t *testing.T) {
	stores(t, func(t *testing.T, s *Store) {
		for i := range 8 {
			id := fmt.Sprint("m", i)
			// on four of them an update of feed takes ten seconds more
			version, took := "1", []float64{20, 21, 22, 20, 21, 22}
			if i < 4 {
				version, took = "2", []float64{20, 21, 22, 30, 31, 32}
			}
			first := list(id, day.AddDate(0, 0, -10), "1", map[string]float64{"feed": 1})
			later := list(id, day.AddDate(0, 0, 2), version, map[string]float64{
				"feed": float64(1 + i), "poll": 3,
			})
			off := change.Change{
				ID: 1, Verb: change.Disable, Status: change.Done, MadeAt: day,
				Targets: []change.Target{{ID: "service:feed", Title: "feed", After: item.Off}},
				Outcome: &change.Outcome{Saved: time.Duration(i+1) * time.Second},
			}
			if i == 7 { // of two items at once
				off.Targets = append(off.Targets, change.Target{ID: "service:poll"})
			}
			s.put(t, delivered(t, first))
			d := delivered(t, later)
			d.Tell(later, boots(id, day.AddDate(0, 0, -3), took...), []change.Change{off})
			s.put(t, d)
		}
		costs, err := s.Costs()
		if err != nil || len(costs) != 2 {
			t.Fatalf("%+v, %v", costs, err)
		}
		c := costs[0]
		if c.Title != "feed" || c.Machines != 8 || c.Sum != 36*time.Second ||
			*c.Median != 4*time.Second || c.Maker != "Mastwerk" {
			t.Errorf("feed costs %+v", c)
		}
		effects, err := s.Effects("feed")
		if err != nil || len(effects) != 1 {
			t.Fatalf("%+v, %v", effects, err)
		}
		e := effects[0]
		if e.Machines != 8 || e.Measured != 7 || e.Joint != 1 || *e.Saved != 4*time.Second ||
			*e.Likely != 4*time.Second {
			t.Errorf("feed off brought %+v", e)
		}
		back, err := s.Returned()
		if err != nil || len(back) != 9 { // poll of the last one too
			t.Errorf("%+v are back, %v", back, err)
		}
		visits, err := s.Visits()
		if err != nil || len(visits) != 8 || *visits[0].Sum != 11*time.Second ||
			visits[0].Machine != "host-m7" {
			t.Errorf("%+v, %v", visits, err)
		}
		slower, suspects, others, err := s.Slower(day)
		if err != nil || len(slower) != 4 || others != 4 || slower[0].Before != 21*time.Second ||
			slower[0].After != 31*time.Second {
			t.Fatalf("%+v, %d others, %v", slower, others, err)
		}
		if len(suspects) != 2 || suspects[0].Title != "feed" || suspects[0].Version != "2" ||
			suspects[0].Have != 4 || suspects[0].OthersHave != 0 {
			t.Errorf("%+v", suspects)
		}
		if p := suspects[0].Chance(); p < 0.0142 || p > 0.0143 { // 1 of 70
			t.Errorf("by chance %v", p)
		}
	})
}

// TestFewTellNothing: of two machines no figure is told, and both are listed.
func TestFewTellNothing(t *testing.T) {
	stores(t, func(t *testing.T, s *Store) {
		for _, id := range []string{"a", "b"} {
			s.put(t, delivered(t, list(id, day, "1", map[string]float64{"poll": 2})))
		}
		costs, err := s.Costs()
		if err != nil || len(costs) != 1 || costs[0].Median != nil {
			t.Errorf("%+v, %v", costs, err)
		}
		if who, _ := s.Who("POLL"); len(who) != 2 {
			t.Errorf("%+v", who)
		}
	})
}

func TestAnonymousDeliveriesNameNobody(t *testing.T) {
	stores(t, func(t *testing.T, s *Store) {
		d := list("a", day, "1", map[string]float64{"sync of maria": 2})
		d.Machine, d.Items[0].Owner = "marias-laptop", "maria"
		d.Items[0].Native = "/etc/cron.d/backup-maria: @reboot maria /home/maria/bin/sync"
		got := delivered(t, d).Anonymous()
		s.put(t, got)
		who, err := s.Who("")
		if err != nil || len(who) != 1 {
			t.Fatal(who, err)
		}
		text, err := json.Marshal([]any{got.Items, got.Host, who[0].Machine, who[0].Owner})
		if err != nil || strings.Contains(string(text), "maria") {
			t.Errorf("%s, %v", text, err)
		}
		if who[0].Owner != "user 1" {
			t.Errorf("owner %q", who[0].Owner)
		}
	})
}

func TestWhatIsNoListIsRefused(t *testing.T) {
	whole := list("a", day, "1", map[string]float64{"poll": 2})
	for name, spoil := range map[string]func(*document.List){
		"not tell of which machine": func(d *document.List) { d.MachineID = "" },
		"when it was taken":         func(d *document.List) { d.Taken = "" },
		"leaves parts":              func(d *document.List) { d.Folded = 3 },
		"no document of":            func(d *document.List) { d.Format = "x/1" },
		"over 20000 items": func(d *document.List) {
			d.Items = make([]document.Item, 30_000)
		},
	} {
		d := whole
		spoil(&d)
		text, err := json.Marshal(d)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := FromList(text); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Open(filepath.Join(t.TempDir(), "none.db"), false); !errors.Is(err, ErrNone) {
		t.Errorf("no workshop: %v", err)
	}
}

func BenchmarkAdd(b *testing.B) {
	s, err := Open(filepath.Join(b.TempDir(), "w.db"), true)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	waits := map[string]float64{}
	for i := range 120 {
		waits[fmt.Sprint("item-", i)] = float64(i)
	}
	for n := 0; b.Loop(); n++ {
		d, err := FromDocument(list(fmt.Sprint(n), day, "1", waits))
		if err == nil {
			_, err = s.Add(d, day, "maria")
		}
		if err != nil {
			b.Fatal(err)
		}
	}
}

// TestStatementsKeepToWhatOtherEnginesKnow: engines that are distributed, and
// speak the protocol of PostgreSQL, lack these.
func TestStatementsKeepToWhatOtherEnginesKnow(t *testing.T) {
	files, err := filepath.Glob("*.go")
	more, err2 := filepath.Glob("postgres/*.go")
	if err != nil || err2 != nil || len(files)+len(more) < 5 {
		t.Fatal(files, more, err, err2)
	}
	for _, file := range append(files, more...) {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, word := range []string{
			"TEMP" + "ORARY", "CREATE " + "TEMP", "SERI" + "AL ", "SEQ" + "UENCE", "next" + "val",
			"AUTO" + "INCREMENT", "IDEN" + "TITY",
			"pg_" + "advisory", "LOCK " + "TABLE", "LIS" + "TEN ",
		} {
			if strings.Contains(string(text), word) {
				t.Errorf("%s has a statement with %s", file, word)
			}
		}
	}
}
