//go:build linux

package boottest_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/boottest"
	"calmdawn/internal/linux/journal"
	"calmdawn/internal/machine"
)

// TestThePlainSystem holds the survey of the fixture as it comes, where nothing
// was written for a test, against its log.
func TestThePlainSystem(t *testing.T) {
	t.Parallel()
	agree(t, boottest.New(t, nil))
}

// listing is what of a list these tests look at.
type listing struct{ Items []listedItem }

type listedItem struct {
	Native, State, Kind, Owner, Fires, Command string
	Conditions, Because                        []string
}

// agree boots a machine and holds its list against its log. It returns what was
// marked, and the list.
func agree(t *testing.T, m *boottest.Machine) (launched []string, list listing) {
	t.Helper()
	if err := json.Unmarshal(run(t, m, "list", "--all", "--json"), &list); err != nil {
		t.Fatal(err)
	}
	launched = m.Boot(t)
	r, err := machine.Open(m.Dir)
	ok(t, err)
	defer r.Close()
	boots := journal.Read(r, 0).Boots
	if len(boots) != 1 || !boots[0].Fit() {
		t.Fatalf("the log has no good boot: %+v", boots)
	}
	started := map[string]bool{}
	for _, s := range boots[0].Spans {
		if strings.HasSuffix(s.Native, ".service") && !s.Skipped && s.Owner == "" &&
			s.First() <= boots[0].Phase("userspace").Value+time.Second {
			started[s.Native] = true
		}
	}
	agreed := 0
	for _, it := range list.Items {
		if it.Kind != "service" || it.Owner != "" {
			continue
		}
		switch {
		case started[it.Native] == (it.State == "on"):
			agreed++
		case it.State == "on" && (len(it.Conditions) > 0 || it.Fires != "" ||
			slices.Contains(it.Because, "sysinit.target")):
			// its conditions only the running machine can tell; what starts as
			// early may start before the log
		case it.State == "off" && it.Native == "console-getty.service":
			// a generator makes it in containers
		default:
			t.Errorf("%s is listed as %s; started: %v", it.Native, it.State, started[it.Native])
		}
		delete(started, it.Native)
	}
	delete(started, "systemd-remount-fs.service") // a generator makes it of the fstab
	for name := range started {
		t.Errorf("%s was started and is not listed", name)
	}
	if agreed < 12 {
		t.Errorf("only %d services were compared", agreed)
	}
	return launched, list
}
