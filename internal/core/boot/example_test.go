package boot_test

import (
	"fmt"
	"time"

	"calmdawn/internal/core/boot"
)

// Usable leaves the time out in which the machine waited for a person.
func ExampleBoot_Usable() {
	known := func(d time.Duration) boot.Figure { return boot.Figure{Value: d, Known: true} }
	b := boot.Boot{
		Ready:  known(20 * time.Second),
		Logins: []boot.Login{{User: "maria", Began: 50 * time.Second}},
		Course: []boot.Use{ // busy until ready, and for nine seconds after the login
			{},
			{At: 20 * time.Second, CPU: 20 * time.Second},
			{At: 50 * time.Second, CPU: 20 * time.Second},
			{At: 59 * time.Second, CPU: 29 * time.Second},
			{At: 70 * time.Second, CPU: 29 * time.Second},
		},
	}
	u := b.Usable()
	fmt.Println(u.Value, u.Kind, u.Waited.Value)
	// Output:
	// 29s login of maria 30s
}
