//go:build linux

package boottest_test

import (
	"encoding/json"
	"testing"

	"calmdawn/internal/boottest"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

func TestThePlainSystem(t *testing.T) {
	m := boottest.New(t, nil)
	var list struct {
		Items []struct {
			Native, State, When, Kind, Owner string
			Conditions                       []string
		}
	}
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	m.Boot(t)
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	boots := journal.Read(r, 0).Boots
	if len(boots) != 1 {
		t.Fatalf("%d boots", len(boots))
	}
	started := map[string]bool{}
	for _, s := range boots[0].Spans {
		started[s.Native] = true
	}
	for _, it := range list.Items {
		if it.Kind == "service" && it.Owner == "" {
			if (it.State == "on") != started[it.Native] {
				t.Logf("%s: survey %s, started %v, conditions %v", it.Native, it.State, started[it.Native], it.Conditions)
			}
			delete(started, it.Native)
		}
	}
	for n := range started {
		t.Log("started, not listed:", n)
	}
}
