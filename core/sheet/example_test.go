package sheet_test

import (
	"fmt"
	"strings"

	"varnet/core/sheet"
)

// How a table is written is guessed from its beginning; records keep their bytes.
func Example() {
	const file = "Name;E-Mail\r\n\"Moss; Ada\";ada@fernhollow.example\r\n"
	g, err := sheet.Guess([]byte(file))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("delimiter %q, header %v, addresses in column %d\n", g.Dialect.Delimiter, g.Dialect.Header, g.AddressColumn+1)
	in := sheet.NewReader(strings.NewReader(file), g.Dialect)
	for {
		rec, err := in.Next()
		if err != nil {
			break // io.EOF at the end
		}
		fmt.Printf("line %d: %q\n", rec.Line, g.Dialect.Cells(rec.Raw))
	}
	// Output:
	// delimiter ";", header true, addresses in column 2
	// line 1: ["Name" "E-Mail"]
	// line 2: ["Moss; Ada" "ada@fernhollow.example"]
}
