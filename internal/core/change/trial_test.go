package change

import (
	"testing"
	"time"
)

// TestTrials goes over time zones and wrong clocks: the last day is a day where
// the technician is.
func TestTrials(t *testing.T) {
	zone := func(hours int) *time.Location { return time.FixedZone("", hours*3600) }
	made := time.Date(2026, 11, 23, 15, 0, 0, 0, time.UTC)
	c := Change{Verb: Disable, Status: Done, MadeAt: made, Terms: Terms{Until: "2026-12-07"}}
	for _, x := range []struct {
		now  time.Time
		want Trial
		days int
	}{
		{made, OnTrial, 14},
		{time.Date(2026, 12, 7, 23, 59, 0, 0, zone(2)), OnTrial, 0},
		{time.Date(2026, 12, 8, 0, 1, 0, 0, zone(2)), Due, -1},
		// the same moment, where it is still the day before
		{time.Date(2026, 12, 8, 0, 1, 0, 0, zone(2)).In(zone(-8)), OnTrial, 0},
		{time.Date(2026, 12, 7, 9, 0, 0, 0, time.UTC).In(zone(14)), OnTrial, 0},
		{time.Date(2026, 12, 7, 11, 0, 0, 0, time.UTC).In(zone(14)), Due, -1},
		{made.Add(-20 * time.Hour), OnTrial, 15}, // a clock that is a little behind
		{time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC), ClockOff, 0},
		{time.Date(2100, 1, 1, 0, 0, 0, 0, time.UTC), Due, -26688},
	} {
		if got, days := c.TrialAt(x.now); got != x.want || days != x.days {
			t.Errorf("%v: %q, %d days; want %q, %d", x.now, got, days, x.want, x.days)
		}
	}
	c.Terms.Kept = "2026-12-01"
	if got, _ := c.TrialAt(made.AddDate(1, 0, 0)); got != Confirmed {
		t.Error(got)
	}
	c.UndoneBy = 2
	if got, _ := c.TrialAt(made); got != Returned {
		t.Error(got)
	}
	for text, want := range map[string]string{
		"14d":        "2026-12-07",
		"2w":         "2026-12-07",
		"2026-11-24": "2026-11-24",
		"1d":         "2026-11-24",
		"0d":         "",
		"-3d":        "",
		"2026-11-23": "",
		"2027-12-24": "",
		"soon":       "",
		"14":         "",
		"d":          "",
		"2026-02-30": "",
		"99999d":     "",
	} {
		if got, err := ParseTrial(text, made); got != want || (err == nil) != (want != "") {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
}
