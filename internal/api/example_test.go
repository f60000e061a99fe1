package api_test

import (
	"encoding/json"
	"fmt"

	"varnet/internal/api"
)

// The contract is written without a service.
func ExampleContract() {
	text, err := api.Contract()
	var doc struct{ OpenAPI string }
	fmt.Println(json.Unmarshal(text, &doc), err, doc.OpenAPI)
	// Output:
	// <nil> <nil> 3.1.0
}
