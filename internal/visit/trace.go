package visit

import (
	"context"
	"log/slog"
	"strings"
)

// traces reports whether somebody wants to know what is decided, and why
// (--verbose).
func traces() bool { return slog.Default().Enabled(context.Background(), slog.LevelDebug) }

// traceSurvey tells what was found and how each item was judged. What the
// technician wrote is theirs, and is not told: their notes, and the reasons of
// their own rules.
func (v *Visit) traceSurvey() {
	if !traces() {
		return
	}
	slog.Debug("survey", "live", v.Root.Live(), "host", v.Host, "system", v.OS,
		"items", len(v.Items), "changes", len(v.Changes))
	for _, u := range v.Unread {
		slog.Debug("not read", "path", u.Path, "why", u.Reason)
	}
	for _, it := range v.Items {
		slog.Debug("item", "id", it.ID, "state", it.State, "why", it.Why, "unsure", it.Unsure,
			"when", it.When, "runs", it.Command, "file", it.File, "maker", it.Maker,
			"package", it.Package, "system", it.System, "came", it.Came, "role", it.Role,
			"advice", it.Advice, "evidence", it.Evidence,
			"protected", it.Protected != "")
	}
}

// traceBoots tells which boots were read, and which of them figures rest on.
func (v *Visit) traceBoots() {
	if !traces() {
		return
	}
	for _, b := range v.Boots {
		slog.Debug("boot", "id", b.ID, "began", b.Began, "ready", b.Ready.Value,
			"known", b.Ready.Known, "odd", strings.Join(b.Odd, "; "))
	}
	for _, b := range v.Baseline.Boots {
		slog.Debug("baseline", "boot", b.ID)
	}
	slog.Debug("forecasts", "replays", len(v.Replays), "without", v.Baseline.Off,
		"lacking", v.Baseline.Lacks, "changes", v.Baseline.Changes)
	for _, u := range v.Unfit {
		slog.Debug("not replayed", "what", u)
	}
}
