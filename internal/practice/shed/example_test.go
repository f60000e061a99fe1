package shed_test

import (
	"fmt"
	"strings"

	"varnet/internal/practice/shed"
)

// The platform is filled with a list of the practice internet; what is neither name nor address becomes a field.
func ExamplePeople() {
	people, err := shed.People(strings.NewReader("Number,Name,E-mail,Town\n1,Ada Moss,ada.moss@fernhollow.example,Mossley\n"))
	fmt.Println(people[0].Name, people[0].Email, people[0].Fields, err)
	// Output:
	// Ada Moss ada.moss@fernhollow.example map[Number:1 Town:Mossley] <nil>
}
