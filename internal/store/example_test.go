package store_test

import (
	"context"
	"fmt"
	"os"

	"grainkeep/internal/store"
	_ "grainkeep/internal/store/folder"
)

// A new kind of store is one package like store/folder, registered under its scheme.
func Example() {
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	st, err := store.Open(ctx, dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(store.WriteNew(ctx, st, "proofs/ab/one.json", []byte("{}")))
	data, err := store.ReadAll(ctx, st, "proofs/ab/one.json", 1000)
	fmt.Println(string(data), err)
	_, err = store.ReadAll(ctx, st, "proofs/ab/one.json", 1)
	fmt.Println(err)
	fmt.Println(store.CheckName("../etc/passwd"))
	_, err = store.Open(ctx, "moon://crater")
	fmt.Println(err)
	// Output:
	// <nil>
	// {} <nil>
	// proofs/ab/one.json has 2 bytes; at most 1 are read
	// the name "../etc/passwd" leads elsewhere
	// there is no kind of store moon
}
