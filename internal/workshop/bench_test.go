//go:build linux

package workshop

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"calmdawn/internal/core/change"
	"calmdawn/internal/core/item"
	"calmdawn/internal/document"
)

// many is a delivery of one of many machines: 120 of 400 items, 30 boots and
// five decisions. Every fourth has an update that takes ten seconds.
func many(n int, at time.Time) Delivery {
	slow := n%4 == 0 && at.After(day)
	list := document.List{
		Format: "calmdawn.list/1", Machine: fmt.Sprint("host-", n), MachineID: fmt.Sprint(n),
		Family: "linux", Taken: at.Format(time.RFC3339),
	}
	for i := range 120 {
		name := fmt.Sprintf("thing-%d", (n*7+i*3)%400)
		version, wait := "1", float64((n+i)%50)/10
		if i == 0 {
			name = "watch"
			if slow {
				version, wait = "2", 10
			}
		}
		it := document.Item{
			ID: name, Kind: item.Service, Native: name + ".service", Title: name, State: item.On,
			When: item.AtBoot, Maker: fmt.Sprint("Maker ", i%40), Version: version,
			Advice: string([]item.Advice{item.CanGo, item.Keep, item.CanWait}[i%3]),
		}
		if i%3 > 0 {
			it.Cost = &document.Cost{Wait: &document.WaitCost{Seconds: wait}}
		}
		list.Items = append(list.Items, it)
	}
	d, err := FromDocument(list)
	if err != nil {
		panic(err) // it is our own
	}
	took := make([]float64, 30)
	for i := range took {
		took[i] = 30 + float64(n%20) + float64(i%5)
		if i >= 15 && n%4 == 0 {
			took[i] += 10
		}
	}
	var changes []change.Change
	for i := range 5 {
		changes = append(changes, change.Change{
			ID: int64(i + 1), Verb: change.Disable, Status: change.Done,
			MadeAt:  day.AddDate(0, 0, -i),
			Targets: []change.Target{{ID: list.Items[i].ID, After: item.Off}},
			Outcome: &change.Outcome{Saved: time.Duration(n%9) * time.Second},
		})
	}
	d.Tell(list, boots(fmt.Sprint(n), day.AddDate(0, 0, -15), took...), changes)
	return d
}

// BenchmarkQuestions loads CALMDAWN_MACHINES machines (1,000 where it is not
// set), two deliveries of each, and asks everything of them. It is no part of
// make test: make bench-workshop runs it.
func BenchmarkQuestions(b *testing.B) {
	if os.Getenv("CALMDAWN_RING") == "" {
		b.Skip("make bench-workshop runs it")
	}
	machines, err := strconv.Atoi(cmp.Or(os.Getenv("CALMDAWN_MACHINES"), "1000"))
	if err != nil {
		b.Fatal(err)
	}
	for engine, where := range map[string]string{
		"SQLite": filepath.Join(b.TempDir(), "w.db"), "PostgreSQL": database(b),
	} {
		s, err := Open(where, true)
		if err != nil {
			b.Fatal(err)
		}
		defer s.Close()
		for n := range machines {
			for _, at := range []time.Time{day.AddDate(0, 0, -20), day.AddDate(0, 0, 20)} {
				if _, err := s.Add(many(n, at), day.AddDate(1, 0, 0), "maria"); err != nil {
					b.Fatal(err)
				}
			}
		}
		next := machines
		b.Run(engine+"/add", func(b *testing.B) {
			for ; b.Loop(); next++ {
				if _, err := s.Add(many(next, day), day.AddDate(1, 0, 0), "maria"); err != nil {
					b.Fatal(err)
				}
			}
		})
		for _, ask := range []struct {
			name string
			of   func() (int, error)
		}{
			{"who", func() (int, error) { h, err := s.Who("thing-33"); return len(h), err }},
			{"costs", func() (int, error) { e, err := s.Costs(); return len(e), err }},
			{"effects", func() (int, error) { e, err := s.Effects(""); return len(e), err }},
			{"returned", func() (int, error) { r, err := s.Returned(); return len(r), err }},
			{"visits", func() (int, error) { c, err := s.Visits(); return len(c), err }},
			{"slower", func() (int, error) {
				slower, _, _, err := s.Slower(day)
				return len(slower), err
			}},
		} {
			b.Run(engine+"/"+ask.name, func(b *testing.B) {
				for b.Loop() {
					if n, err := ask.of(); err != nil || n == 0 {
						b.Fatal(n, err)
					}
				}
			})
		}
	}
}
