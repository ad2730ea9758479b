package proposal_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/proposal"
)

// What is written can be edited, and is read back.
func ExampleWrite() {
	text, err := proposal.Write(proposal.Proposal{
		Machine: "meridian",
		Made:    time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC),
		Decide: []proposal.Decision{
			{ID: "service:star-index.service", Do: proposal.Delay, By: "5m"},
		},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := proposal.Parse(text)
	fmt.Println(p.Machine, p.Decide[0].ID, p.Decide[0].Do, p.Decide[0].By, err)
	// Output:
	// meridian service:star-index.service delay 5m <nil>
}
