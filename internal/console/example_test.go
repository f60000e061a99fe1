package console_test

import (
	"fmt"
	"net/http/httptest"

	"varnet/internal/console"
)

// Every path that is not a file is a page of the console.
func ExampleHandler() {
	answer := httptest.NewRecorder()
	console.Handler().ServeHTTP(answer, httptest.NewRequest("GET", "/lists/7", nil))
	fmt.Println(answer.Code, answer.Header().Get("Content-Type"))
	// Output:
	// 200 text/html; charset=utf-8
}
