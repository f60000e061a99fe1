package move_test

import (
	"context"
	"fmt"
	"os"

	"varnet/internal/move"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// A workspace is written as one file, which another installation reads in.
func ExampleWriter_Write() {
	var s *store.Store
	var box *secret.Box
	out, err := os.Create("seeds.varnet")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer out.Close()
	w := move.Writer{Store: s, Secrets: box, Release: "1.0.0"}
	fmt.Println(w.Write(context.Background(), 1, out))
}
