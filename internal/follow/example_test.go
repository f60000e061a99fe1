package follow_test

import (
	"fmt"

	"varnet/internal/follow"
)

// Where no folder is set up, catalogues come over HTTPS alone.
func ExampleReader_Check() {
	var r follow.Reader
	for _, address := range []string{"https://lists.example/disposable.txt", "file:///etc/passwd", "http://lists.example/disposable.txt"} {
		fmt.Println(r.Check(address))
	}
	// Output:
	// <nil>
	// this installation reads no catalogues from files; its operator names a folder for them with -catalogue-folder
	// "http://lists.example/disposable.txt" is not an address that a catalogue can be read at; give one that begins with https:// or file://
}
