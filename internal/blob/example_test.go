package blob_test

import (
	"context"
	"fmt"
	"io"
	"os"

	"grainkeep/internal/blob"
	"grainkeep/internal/store/folder"
)

// A set collects files while they are written to a store; each is read again within the
// bounds that it was written with.
func Example() {
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(dir)
	ctx := context.Background()
	st, err := folder.Open(dir)
	if err != nil {
		fmt.Println(err)
		return
	}
	set := blob.NewSet(st, nil)
	if err := set.Write(ctx, "20-data/port.sql.zst", blob.Zstd, "INSERT INTO port ", "VALUES ('SKR');"); err != nil {
		fmt.Println(err)
		return
	}
	info := set.Files()[0]
	f, err := st.Open(ctx, info.Path, 0, -1)
	if err != nil {
		fmt.Println(err)
		return
	}
	text, err := blob.Open(f, blob.Zstd, blob.Bounds{Stored: info.Stored, Raw: info.Raw})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer text.Close()
	all, err := io.ReadAll(text)
	sum, _ := text.Sum()
	fmt.Println(string(all), err, sum == info.SHA256)
	// Output: INSERT INTO port VALUES ('SKR'); <nil> true
}
