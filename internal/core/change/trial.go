package change

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"
)

// Terms are what a change was made under.
type Terms struct {
	// Proposal names the proposal that the change was a part of; empty for
	// none.
	Proposal string `json:"proposal,omitempty"`
	// Until is the last day of the change's trial, as 2026-12-07 in whatever
	// zone the technician is; empty without a trial.
	Until string `json:"until,omitempty"`
	// Kept is the day on which the trial was confirmed.
	Kept string `json:"kept,omitempty"`
	// Together is what was forecast for all changes of the proposal, kept with
	// the first of them.
	Together *Forecast `json:"together,omitempty"`
	// Job is what was forecast for all changes of a job up to this one
	// together, from the boots before the job. It is nil for its first change.
	// JobOf are the others of them.
	Job   *Forecast `json:"job,omitempty"`
	JobOf []int64   `json:"job_of,omitempty"`
	// Guarded says that the boot guard watches over the change.
	Guarded bool `json:"guarded,omitempty"`
}

// None reports whether there are no terms.
func (t Terms) None() bool { return reflect.ValueOf(t).IsZero() }

// Judged is the forecast that the change's outcome is held against; nil where
// there was none.
func (c Change) Judged() *Forecast {
	if c.Terms.Together != nil {
		return c.Terms.Together
	}
	return c.Forecast
}

// CameOut is the forecast that the change's outcome is of; false where either
// is missing.
func (c Change) CameOut() (Forecast, bool) {
	if c.Judged() == nil || c.Outcome == nil {
		return Forecast{}, false
	}
	return c.Judged().Of(c.Outcome.Kind)
}

// A Trial is how far a change's trial has come.
type Trial string

// The states of a trial.
const (
	NoTrial   Trial = ""
	OnTrial   Trial = "on trial"
	Due       Trial = "due"
	Confirmed Trial = "kept"
	Returned  Trial = "returned"
	ClockOff  Trial = "the clock is wrong"
)

// TrialAt tells how far the change's trial has come at an instant, in its zone.
// It returns too how many days are left, negative when it is over. A clock that
// is more than a day before the change was made tells nothing.
func (c Change) TrialAt(now time.Time) (Trial, int) {
	until, err := time.Parse(time.DateOnly, c.Terms.Until)
	today, _ := time.Parse(time.DateOnly, now.Format(time.DateOnly))
	days := int(until.Sub(today).Hours() / 24)
	switch {
	case c.Terms.Until == "" || err != nil || c.Verb == Undo || c.Status != Done:
		return NoTrial, 0
	case c.UndoneBy != 0:
		return Returned, 0
	case c.Terms.Kept != "":
		return Confirmed, 0
	case now.Before(c.MadeAt.Add(-24 * time.Hour)):
		return ClockOff, 0
	case days < 0:
		return Due, days
	}
	return OnTrial, days
}

// longestTrial keeps mistyped years out.
const longestTrial = 366

// ParseTrial reads the end of a trial: a day (2026-12-07), or how many days or
// weeks from now on (14d, 2w).
func ParseTrial(text string, now time.Time) (string, error) {
	today, _ := time.Parse(time.DateOnly, now.Format(time.DateOnly))
	until, err := time.Parse(time.DateOnly, text)
	if err != nil {
		length, unit := 0, 0
		switch {
		case strings.HasSuffix(text, "d"):
			unit = 1
		case strings.HasSuffix(text, "w"):
			unit = 7
		}
		if length, err = strconv.Atoi(strings.TrimRight(text,
			"dw")); err != nil || unit == 0 || len(text) > 5 {
			return "", fmt.Errorf("a trial ends on a day such as 2026-12-07, or after days or "+
				"weeks such as 14d or 2w, not %q", text)
		}
		until = today.AddDate(0, 0, length*unit)
	}
	if days := int(until.Sub(today).Hours() / 24); days < 1 || days > longestTrial {
		return "", fmt.Errorf("a trial lasts from one day to a year; %s is %d days from today",
			until.Format(time.DateOnly), days)
	}
	return until.Format(time.DateOnly), nil
}
