//go:build linux

package review

import (
	"testing"

	"calmdawn/internal/core/item"
)

// TestYourOwnRule types rules for rows of the list: they change the advice at
// once, and no decision.
func TestYourOwnRule(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	v := machine(t, 0)
	p := sitDown(t, v, Options{UTF8: true})
	advised := func(id string, want item.Advice, because string) {
		t.Helper()
		it, _ := p.v.Lookup(id)
		if it.Advice != want {
			t.Errorf("%s: %q, since %q", id, it.Advice, it.Reason)
		}
		p.sees(because)
	}
	p.press("r clear keep: space the space desk space works enter")
	advised("service:a.service", item.Keep, "From now on: keep, for 1 item")
	p.press("a r clear go: space sold enter")
	advised("service:b.service", item.CanGo, "From now on: can go, for 4 items")
	if it, _ := p.v.Lookup("service:ufw.service"); it.Protected == "" {
		t.Error("a rule of one's own took the protection of ufw away")
	}
	p.press("home r clear none enter")
	advised("service:a.service", item.LookUp, "No rule of yours")
	for _, c := range []struct{ keys, says string }{
		{"r clear maybe: space x enter", "begin with keep, go, wait"},
		{"r clear keep enter", "say why"},
		{"r esc", "4 of 4 items"},
	} {
		p.press(c.keys)
		p.sees(c.says)
		p.press("esc")
	}
	p.has("")
	if it, _ := v.Lookup("service:b.service"); it.Advice != item.LookUp {
		t.Error("the visit that the caller holds was judged anew")
	}
}
