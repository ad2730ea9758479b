package item_test

import (
	"fmt"

	"calmdawn/internal/core/item"
)

// An id holds no byte that a shell or a terminal could take for more than a
// letter, and gives the name back.
func ExampleSafeID() {
	id := item.SafeID("service:night sky.service")
	fmt.Println(id)
	fmt.Println(item.RawID(id))
	// Output:
	// service:night%20sky.service
	// service:night sky.service
}
