// Package payload is what a dump can hold. Today that is a database, as SQL: its
// objects and its rows. What is captured here is read again here too, so the form of a
// payload's files is known nowhere else.
package payload

import (
	"context"

	"grainkeep/internal/blob"
	"grainkeep/internal/event"
	"grainkeep/internal/manifest"
)

// Capture writes one payload into the files of a dump, and says what it wrote.
type Capture interface {
	Capture(ctx context.Context, files *blob.Set, feed *event.Feed) (manifest.Payload, error)
}
