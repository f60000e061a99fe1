package backup_test

import (
	"fmt"
	"os"
	"path/filepath"

	"varnet/internal/backup"
)

// A backup is sealed for public keys; the private one is kept elsewhere.
func ExampleNewKey() {
	folder, _ := os.MkdirTemp("", "varnet-example-")
	defer os.RemoveAll(folder)
	public, err := backup.NewKey(filepath.Join(folder, "backup.key"))
	if err != nil {
		fmt.Println(err)
		return
	}
	keys, err := backup.PublicKeys([]string{public})
	fmt.Println(len(keys), err)
	// Output:
	// 1 <nil>
}
