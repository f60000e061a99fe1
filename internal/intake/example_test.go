package intake_test

import (
	"context"
	"fmt"
	"strings"

	"varnet/core/sheet"
	"varnet/internal/intake"
)

// A file is looked at before it is imported: how it is written, and which columns hold addresses.
func ExampleRead() {
	file := "Name;E-mail\nAda Moss;ada.moss@fernhollow.example\nBen Reed;ben.reed@fernhollow.example\n"
	r, err := intake.Read(context.Background(), strings.NewReader(file), "", sheet.Overrule{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Sentence())
	// Output:
	// 2 columns separated by semicolons, the first line names them. The addresses are in column 2, “E-mail”.
}
