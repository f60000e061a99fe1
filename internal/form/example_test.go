package form_test

import (
	"context"
	"fmt"

	"varnet/internal/form"
)

// A visitor of a website has an answer within the deadline, whatever the mail host does.
func ExampleDesk_Ask() {
	var desk *form.Desk // the engine has one
	answer, err := desk.Ask(context.Background(), form.Question{Workspace: 1, Visitor: "192.0.2.7", Typed: "ada.moss@fernholow.example"})
	fmt.Println(answer, err)
}
