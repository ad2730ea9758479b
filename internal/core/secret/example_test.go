package secret_test

import (
	"fmt"

	"calmdawn/internal/core/secret"
)

func ExampleHide() {
	fmt.Println(secret.Hide("/opt/mast/poll --host mast.example --password=ilex"))
	// Output:
	// /opt/mast/poll --host mast.example --password=…
}
