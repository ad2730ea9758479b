package job_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/change"
	"calmdawn/internal/core/compare"
	"calmdawn/internal/core/item"
	"calmdawn/internal/core/job"
)

// Five boots before a change and five after it are enough for a verdict.
func ExampleSince() {
	day := time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC)
	var boots []boot.Boot
	for i := range 10 {
		took := 60 + time.Duration(i)
		if i >= 5 {
			took = 40 + time.Duration(i)
		}
		boots = append(boots, boot.Boot{
			ID: fmt.Sprint("boot ", i), Began: day.AddDate(0, 0, i),
			Ready: boot.Figure{Value: took * time.Second, Known: true},
		})
	}
	off := change.Change{
		ID: 1, Verb: change.Disable, Status: change.Done,
		MadeAt:  day.AddDate(0, 0, 4).Add(time.Hour),
		Targets: []change.Target{{ID: "service:a", After: item.Off, When: item.AtBoot}},
	}
	c, ok := job.Since(boots, []change.Change{off}, compare.Measure{}, job.Begin{},
		day.AddDate(0, 0, 10))
	fmt.Println(ok, c.On.Name, c.Main.Verdict, c.Main.Estimate)
	// Output:
	// true ready faster -15s
}
