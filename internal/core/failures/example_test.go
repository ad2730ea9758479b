package failures_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/failures"
)

// Two boots in a row that never became ready are enough: the third one takes
// the changes back.
func ExampleState_Begin() {
	var s failures.State
	for _, id := range []string{"one", "two", "three"} {
		fmt.Println(id, s.Begin(id, time.Second, false))
	}
	// Output:
	// one false
	// two false
	// three true
}
