package advice_test

import (
	"fmt"

	"calmdawn/internal/core/advice"
	"calmdawn/internal/core/item"
)

// Rules say what an item is for, and what to think of it.
func ExampleRules_Judge() {
	rules, err := advice.Load(nil, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	it := item.Item{
		ID: "service:cups.service", Native: "cups.service", Kind: item.Service,
		State: item.On, When: item.AtBoot, Package: "cups-daemon",
	}
	rules.Judge(&it, nil)
	fmt.Println(it.Role, it.Advice, it.Protected != "")
	// Output:
	// printing can wait false
}
