package dial_test

import (
	"fmt"
	"net/http"

	"varnet/internal/dial"
)

// An address that somebody typed is not gone to where it leads into the own network.
func ExampleWeb() {
	_, err := dial.Web(false, nil).Get("http://127.0.0.1:1/")
	fmt.Println(err != nil)
	var client *http.Client = dial.Web(true, nil) // of a demo, whose stand-ins are on this machine
	_ = client
	// Output:
	// true
}
