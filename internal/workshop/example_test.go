package workshop_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"varnet/internal/workshop"
)

// Files are looked at by the command line without a service.
func ExampleFileProfiles() {
	name := filepath.Join(os.TempDir(), "towns.csv")
	defer os.Remove(name)
	_ = os.WriteFile(name, []byte("E-mail,Town\nada.moss@fernhollow.example,Mossley\nben.reed@fernhollow.example,Mossley\ncleo.dale@fernhollow.example,\n"), 0o600)
	columns, err := workshop.FileProfiles(context.Background(), name)
	for _, c := range columns {
		fmt.Printf("%s: %d rows, %d empty, %d distinct\n", c.Column, c.Rows, c.Empty, c.Distinct)
	}
	fmt.Println(err)
	// Output:
	// E-mail: 3 rows, 0 empty, 3 distinct
	// Town: 3 rows, 1 empty, 1 distinct
	// <nil>
}
