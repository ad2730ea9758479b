package drift_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/drift"
)

// A survey is held against an earlier one.
func ExampleCompare() {
	before := []drift.Item{{ID: "service:a", Title: "A", State: "off"}}
	after := []drift.Item{
		{ID: "service:a", Title: "A", State: "on"},
		{ID: "service:b", Title: "B", State: "on"},
	}
	for _, d := range drift.Compare(before, after, time.Time{}, nil, nil) {
		fmt.Println(d.ID, d.Kind)
	}
	// Output:
	// service:b new
	// service:a switched on
}
