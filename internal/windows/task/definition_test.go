package task

import (
	"testing"
	"time"
)

func TestDurations(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"PT30S": 30 * time.Second, "PT1H2M3S": time.Hour + 2*time.Minute + 3*time.Second,
		"P1DT1M": 24*time.Hour + time.Minute, "": 0, "30S": 0, "PT": 0, "P": 0, "PT5": 0, "PTxS": 0,
		"P2M": 0, "PT99999999999S": 0,
	} {
		if got := duration(text); got != want {
			t.Errorf("%q is %v, want %v", text, got, want)
		}
	}
}

func FuzzDefinition(f *testing.F) {
	f.Add([]byte(`<Task><Triggers><BootTrigger><Delay>PT1M</Delay></BootTrigger></Triggers></Task>`))
	f.Add([]byte(`<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><Task>&b;</Task>`))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		d, _ := parse(raw)
		for _, t := range d.Triggers.All {
			_ = t.words(func(id string) string { return id })
			_ = t.late()
			_, _ = t.ends()
		}
	})
}
