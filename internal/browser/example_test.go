package browser_test

import (
	"context"
	"fmt"
	"time"

	"varnet/internal/browser"
)

// A test drives a page as a person does: by what it says, and waits until it says it.
func ExampleDo() {
	tab, stop, err := browser.Start(context.Background(), browser.Options{Width: 1280, Height: 800})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer stop()
	fmt.Println(browser.Do(tab, 10*time.Second, browser.SignIn("http://127.0.0.1:8025"), browser.Press("Import a list"), browser.Text("Choose a file")))
}
