package recipe_test

import (
	"fmt"

	"varnet/internal/connect/recipe"
	"varnet/internal/practice/shed"
)

// A recipe is read strictly: what it cannot say is named with its place.
func ExampleParse() {
	r, err := recipe.Parse([]byte(shed.Recipe))
	fmt.Println(r.Name, r.Takes(), err)
	_, err = recipe.Parse([]byte(`{"recipe": 1, "nmae": "Potting Shed"}`))
	fmt.Println(err)
	// Output:
	// Potting Shed [collection field tag suppress remove] <nil>
	// recipe.nmae: there is no such entry; there are recipe, name, base, signIn, perSecond, test, collections, contact, read, write
}
