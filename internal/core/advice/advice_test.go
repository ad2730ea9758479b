package advice

import (
	"strings"
	"testing"

	"calmdawn/internal/core/item"
)

func TestJudge(t *testing.T) {
	rules, err := Load([]byte("[[rule]]\nrole = \"badges\"\nadvice = \"keep\"\nreason = \"the " +
		"desk needs it\"\npackages = [\"badgework\"]\n"))
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
			item.Item{Title: "Cue updater", State: item.On},
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
		rules.Judge(&c.it)
		if c.it.Role != c.role || c.it.Advice != c.advice ||
			!strings.Contains(c.it.Reason, c.reason) {
			t.Errorf("%s: role %q, advice %q, reason %q", c.name, c.it.Role, c.it.Advice,
				c.it.Reason)
		}
	}
	for _, bad := range []string{"[[rule]]\nrole = \"x\"\nadvice = \"burn\"\n", "no toml"} {
		if _, err := Load([]byte(bad)); err == nil {
			t.Errorf("%q was accepted", bad)
		}
	}
}
