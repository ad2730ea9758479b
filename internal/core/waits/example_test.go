package waits_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/boot"
	"calmdawn/internal/core/waits"
)

// Stretches follow each other from the begin of the boot to its end.
func ExampleOf() {
	known := func(d time.Duration) boot.Figure { return boot.Figure{Value: d, Known: true} }
	b := boot.Boot{
		Ready:  known(10 * time.Second),
		Phases: []boot.Phase{{Name: "kernel", Took: 4 * time.Second}},
	}
	w := waits.Of(b, 3)
	fmt.Println(w.Name, w.End)
	for _, s := range w.Stretches {
		fmt.Println(s.Label, s.From, s.Took())
	}
	// Output:
	// ready 10s
	// kernel 0s 4s
	// userspace 4s 6s
}
