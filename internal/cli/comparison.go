package cli

import (
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
	"calmdawn/internal/render"
	"calmdawn/internal/visit"
)

// A comparison is one as it is shown: with the names that people know items by.
type comparison struct {
	job.Comparison
	titles map[string]string // of items, by the names that boots know
	back   []item.Item       // that are on again although changes switched them off
	late   []item.Item       // delayed past settled
}

func shown(c job.Comparison, l *visit.Visit) comparison {
	return comparison{Comparison: c, titles: l.Titles()}
}

func (c comparison) title(name string) string {
	if t := c.titles[name]; t != "" && t != name {
		return render.Clean(t)
	}
	return render.Clean(name)
}
