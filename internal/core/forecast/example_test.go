package forecast_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/forecast"
)

// Boots are prepared once, and then asked what they would take without some of
// their units.
func Example() {
	at := func(s int) boot.Figure { return boot.Of(time.Duration(s)*time.Second, boot.Bus) }
	b := boot.Boot{
		Goal:       "goal",
		Ready:      at(9),
		Processors: 2,
		Spans: []boot.Span{
			{Native: "disk", Labels: boot.Service, Type: "oneshot", Begin: at(0), End: at(2)},
			{
				Native: "index",
				Labels: boot.Service,
				Type:   "oneshot",
				Begin:  at(2),
				End:    at(9),
				After:  []string{"disk"},
			},
			{
				Native: "desk",
				Labels: boot.Service,
				Type:   "oneshot",
				Begin:  at(2),
				End:    at(6),
				After:  []string{"disk"},
			},
			{
				Native: "goal",
				Labels: boot.Goal,
				Begin:  at(9),
				End:    at(9),
				After:  []string{"index", "desk"},
				Pulls:  []string{"disk", "index", "desk"},
			},
		},
	}
	replays, unfit := forecast.Prepare([]boot.Boot{b})
	if len(unfit) > 0 {
		panic(unfit[0])
	}
	without := forecast.Of(replays, forecast.Set{boot.Key{Native: "index"}: true})
	fmt.Println("ready after", without.Then, "instead of", without.Now)
	// Output: ready after 6s instead of 9s
}
