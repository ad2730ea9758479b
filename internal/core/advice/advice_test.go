package advice

import (
	"encoding/csv"
	"os"
	"strings"
	"testing"

	"calmdawn/internal/core/item"
)

func TestJudge(t *testing.T) {
	rules, err := Load([]byte("[[rule]]\nrole = \"badges\"\nadvice = \"keep\"\nreason = \"the "+
		"desk needs it\"\npackages = [\"badgework\"]\n"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name   string
		it     item.Item
		role   string
		advice item.Advice
		reason string
	}{
		{
			"by its section",
			item.Item{Title: "Watch", Section: "sound", State: item.On},
			"sound",
			item.Keep,
			"package section: sound",
		},
		{
			"by its name",
			item.Item{Native: "NetworkManager.service", State: item.On, System: true},
			"network",
			item.Keep,
			"part of the operating system",
		},
		{
			"by a word",
			item.Item{Package: "desk", Title: "Cue updater", State: item.On},
			"update",
			item.CanGo,
			`title: "updater"`,
		},
		{
			"not by part of a word",
			item.Item{Title: "Synchrotron", State: item.On},
			"",
			item.LookUp,
			"no rule",
		},
		{
			"by its package's description",
			item.Item{Title: "Murmur", Summary: "Chat with the desk", State: item.On},
			"chat",
			item.CanWait,
			"description",
		},
		{
			"broken",
			item.Item{Title: "Cue updater", State: item.Broken},
			"update",
			item.CleanUp,
			"gone",
		},
		{
			"left behind",
			item.Item{Title: "X", State: item.On, Leftover: true},
			"",
			item.CleanUp,
			"removed",
		},
		{"off", item.Item{Title: "Cue updater", State: item.Off}, "update", "", ""},
		{
			"the technician's rule comes first",
			item.Item{Title: "Badge label tray", Package: "badgework", State: item.On},
			"badges",
			item.Keep,
			"package: badgework",
		},
	} {
		rules.Judge(&c.it, nil)
		if c.it.Role != c.role || c.it.Advice != c.advice ||
			!strings.Contains(c.it.Reason, c.reason) {
			t.Errorf("%s: role %q, advice %q, reason %q", c.name, c.it.Role, c.it.Advice,
				c.it.Reason)
		}
	}
	for _, bad := range []string{"[[rule]]\nrole = \"x\"\nadvice = \"burn\"\n", "no toml"} {
		if _, err := Load([]byte(bad), nil); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}

// TestRealPackages holds the built-in rules against what a good technician
// would say of items of common packages, testdata/real.csv. Nine in ten agree
// in role and advice, and nothing that must stay is advised away.
func TestRealPackages(t *testing.T) {
	f, err := os.Open("testdata/real.csv")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	rules, err := Load(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	right := 0
	for _, row := range rows[1:] {
		role, advice, must := row[7], item.Advice(row[8]), row[9]
		it := item.Item{
			Native: row[0], Package: row[1], Section: row[2], System: row[3] == "yes",
			Title: row[4], Summary: row[5], State: item.On,
			Traits: strings.FieldsFunc(row[6], func(c rune) bool { return c == ';' }),
		}
		rules.Judge(&it, nil)
		if it.Role == role && it.Advice == advice {
			right++
		} else {
			t.Logf("%s: role %q, advice %q; a technician says %q, %q (%s)", it.Native, it.Role,
				it.Advice, role, advice, it.Reason)
		}
		away := it.Advice == item.CanGo || it.Advice == item.CanWait
		switch must {
		case "protected":
			if it.Protected == "" || away {
				t.Errorf("%s has to be protected: %q, %q", it.Native, it.Protected, it.Advice)
			}
		case "keep", "look": // not without asking somebody, and not by insisting
			if away || it.Protected != "" && must == "look" {
				t.Errorf("%s: advice %q, protected %q", it.Native, it.Advice, it.Protected)
			}
		}
		if must == "look" && it.System {
			t.Errorf("the server %s is folded away", it.Native)
		}
	}
	t.Logf("%d of %d as a technician would", right, len(rows)-1)
	if right*10 < (len(rows)-1)*9 {
		t.Errorf("only %d of %d are as a technician would say", right, len(rows)-1)
	}
}

// TestWhatIsInUse judges the same items where something is known of their use.
func TestWhatIsInUse(t *testing.T) {
	rules, err := Load(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	inUse := Uses{"bluetooth": {Any: true, Why: "1 is paired"}, "printers": {Any: true, Why: "p"}}
	for name, c := range map[string]struct {
		native, title string
		uses          Uses
		want          item.Advice
	}{
		"nothing known":        {"bluetooth.service", "x", nil, item.LookUp},
		"a device is paired":   {"bluetooth.service", "x", inUse, item.Keep},
		"none is paired":       {"bluetooth.service", "x", Uses{"bluetooth": {}}, item.CanGo},
		"printers are set up":  {"cups.service", "x", inUse, item.CanWait},
		"no printer is":        {"cups.service", "x", Uses{"printers": {}}, item.CanGo},
		"a printer of its own": {"a.service", "Till printer", Uses{"printers": {}}, item.CanWait},
		"nobody needs it first": {
			"a-wait-online.service", "x", Uses{"network first": {}}, item.CanGo,
		},
	} {
		it := item.Item{Native: c.native, Title: c.title, State: item.On, System: true}
		if name == "a printer of its own" {
			it.System = false
		}
		rules.Judge(&it, c.uses)
		if it.Advice != c.want || it.Protected != "" {
			t.Errorf("%s: %q (%s), protected %q; want %q", name, it.Advice, it.Reason,
				it.Protected, c.want)
		}
	}
	// words protect nothing, phrases may
	for title, want := range map[string]bool{
		"Palisade protection": false, "Virus protection of the desk": true,
	} {
		it := item.Item{Title: title, State: item.On}
		if rules.Judge(&it, nil); (it.Protected != "") != want || it.Advice != item.Keep {
			t.Errorf("%s: protected %q, %q", title, it.Protected, it.Advice)
		}
	}
}

// TestSiblingsVouch gives items that no rule knows siblings that one does.
func TestSiblingsVouch(t *testing.T) {
	rules, err := Load(nil, []byte("[[rule]]\nrole = \"printing\"\nadvice = \"can wait\"\n"+
		"reason = \"r\"\ntraits = [\"group Spooler\"]\n[[rule]]\nrole = \"sound\"\n"+
		"advice = \"keep\"\nprotected = true\nreason = \"r\"\ntraits = [\"class Media\"]\n"+
		"[[rule]]\nrole = \"helper\"\nadvice = \"look it up\"\nalone = true\nreason = \"r\"\n"+
		"traits = [\"class USB\"]\n"))
	if err != nil {
		t.Fatal(err)
	}
	made := func(id, pkg, maker, title string, traits ...string) item.Item {
		return item.Item{
			ID: id, Package: pkg, Maker: maker, Title: title, Traits: traits, State: item.On,
		}
	}
	driver := func(trait string) item.Item { return made("driver", "Desk", "Tindle", "x", trait) }
	for name, c := range map[string]struct {
		it     item.Item
		others []item.Item
		role   string
	}{
		"its package": {made("a", "Desk", "", "x"), []item.Item{driver("class Media")}, "sound"},
		"its maker": {
			made("a", "Other", "Tindle", "x"), []item.Item{driver("group Spooler")}, "printing",
		},
		"nobody knows who made it": {
			made("a", "", "", "x"), []item.Item{made("b", "", "", "x", "class Media")}, "",
		},
		"it tells by itself": {
			made("a", "Desk", "", "Offers"), []item.Item{driver("class Media")}, "vendor helper",
		},
		"siblings differ": {
			made("a", "Desk", "Tindle", "x"),
			[]item.Item{driver("class Media"), driver("group Spooler")},
			"",
		},
		"a sibling is told by a word": {
			made("a", "Desk", "", "x"), []item.Item{made("b", "Desk", "", "Backup")}, "",
		},
		"a rule of one alone": {made("a", "Desk", "", "x"), []item.Item{driver("class USB")}, ""},
	} {
		all := append([]item.Item{c.it}, c.others...)
		for i := range all {
			rules.Judge(&all[i], nil)
		}
		rules.Vouch(all)
		it := all[0]
		if it.Role != c.role || it.Protected != "" {
			t.Errorf("%s: role %q, protected %q", name, it.Role, it.Protected)
		}
		if lent := c.role != "" && c.role != "vendor helper"; lent &&
			(it.Advice != item.LookUp || !strings.Contains(it.Reason, c.others[0].ID)) {
			t.Errorf("%s: %q, %q", name, it.Advice, it.Reason)
		}
	}
}

// TestOneProgramOneAdvice: what starts the same program of a package is advised
// alike, unless words say more of one of them.
func TestOneProgramOneAdvice(t *testing.T) {
	rules, err := Load(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		title, pkg, program string
		others              string // another one's title
		want                item.Advice
		role                string
	}{
		"the same":        {"Desk", "desk", "/usr/bin/desk", "Desk sync", item.CanWait, "sync"},
		"another program": {"Desk check", "desk", "/usr/bin/gate", "Desk sync", item.LookUp, ""},
		"another package": {"Desk check", "gate", "/usr/bin/desk", "Desk sync", item.LookUp, ""},
		"no package":      {"Desk check", "", "/bin/sh", "Desk sync", item.LookUp, ""},
		"one that may go": {"Desk check", "desk", "/usr/bin/desk", "Desk offers", item.LookUp, ""},
		"it tells by itself": {
			"Desk offers", "desk", "/usr/bin/desk", "Desk sync", item.CanGo, "vendor helper",
		},
	} {
		all := []item.Item{
			{ID: "a", Title: c.title, Package: c.pkg, Program: c.program, State: item.On},
			{ID: "b", Title: c.others, Package: "desk", Program: "/usr/bin/desk", State: item.On},
		}
		for i := range all {
			rules.Judge(&all[i], nil)
		}
		rules.Vouch(all)
		if it := all[0]; it.Advice != c.want || it.Role != c.role || it.Protected != "" {
			t.Errorf("%s: %q, role %q (%s)", name, it.Advice, it.Role, it.Reason)
		}
	}
}

// TestUpdates: what brings the operating system up to date is never advised
// away, whatever it is called. What others look for their own versions with is.
func TestUpdates(t *testing.T) {
	rules, err := Load(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		it        item.Item
		want      item.Advice
		protected bool
	}{
		"an image's own": {item.Item{Native: "transactional-update.timer"}, item.Keep, true},
		"by hand": {
			item.Item{Native: "fleet-update.timer", Title: "Update of the fleet"},
			item.LookUp, false,
		},
		"of the archive": {
			item.Item{Native: "x-update.timer", Package: "x", Archive: "Larkfield"},
			item.LookUp, false,
		},
		"of the system": {
			item.Item{Native: "desk-updater.service", Package: "x", System: true},
			item.LookUp, false,
		},
		"another maker's": {
			item.Item{Native: "cue-update.timer", Package: "cue"}, item.CanGo, false,
		},
		"by its title": {
			item.Item{Native: "a.service", Title: "Cue updates", Maker: "Pellin"},
			item.CanGo, false,
		},
	} {
		c.it.State = item.On
		rules.Judge(&c.it, nil)
		if c.it.Advice != c.want || (c.it.Protected != "") != c.protected {
			t.Errorf("%s: %q, protected %q: %s", name, c.it.Advice, c.it.Protected, c.it.Reason)
		}
	}
}

// TestOwnDecisions changes advice by a technician's own rules, and protection
// by none of them.
func TestOwnDecisions(t *testing.T) {
	own := `[[rule]]
role = "decided"
items = ["service:tide.service", "service:dbus.service"]
advice = "can go"
reason = "nobody reads it"
made = "2026-03-03"
[[rule]]
role = "decided"
items = ["service:tide.service"]
machine = "other"
advice = "keep"
reason = "no"
made = "2026-03-04"
[[rule]]
role = "dome"
advice = "can go"
reason = "it turns the dome"
names = ["dbus*"]
`
	rules, err := Load([]byte(own), nil)
	if err != nil {
		t.Fatal(err)
	}
	judged := func(native string, state item.State, machine string) item.Item {
		it := item.Item{ID: "service:" + native, Kind: item.Service, Native: native, State: state}
		rules.For(machine).Judge(&it, nil)
		return it
	}
	tide := judged("tide.service", item.On, "mine")
	if tide.Advice != item.CanGo ||
		tide.Reason != "nobody reads it, by your own rule of 3 March 2026" {
		t.Errorf("%+v", tide)
	}
	if there := judged("tide.service", item.On, "other"); there.Advice != item.Keep {
		t.Errorf("on the other machine: %+v", there)
	}
	if off := judged("tide.service", item.Off, "mine"); off.Advice != "" {
		t.Errorf("off: %+v", off)
	}
	if bus := judged("dbus.service", item.On, "mine"); bus.Protected == "" {
		t.Errorf("its protection is gone: %+v", bus)
	}
}
