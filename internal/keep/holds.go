package keep

import (
	"context"
	"errors"
	"io/fs"
	"strings"
	"time"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
	"grainkeep/internal/store"
)

// Hold keeps a dump from being removed, whatever a retain phrase says.
type Hold struct {
	Format int       `json:"format"`
	Dump   string    `json:"dump"`
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until,omitzero"` // zero: until somebody releases it
	Why    string    `json:"why"`
}

// Ended says whether a hold has come to its end.
func (h Hold) Ended(now time.Time) bool { return !h.Until.IsZero() && now.After(h.Until) }

const (
	holdsName  = "holds"
	holdEnding = ".json"
)

func holdFile(id string) string { return holdsName + "/" + id + holdEnding }

// Hold puts a dump on hold.
func (k *Keep) Hold(ctx context.Context, h Hold) error {
	h.Format = formatNow
	data, _, err := record.Encode(h)
	if err != nil {
		return err
	}
	err = store.WriteNew(ctx, k.st, holdFile(h.Dump), data)
	if errors.Is(err, fs.ErrExist) {
		return fault.New("dump-held", nil, "the dump %s is on hold already", h.Dump[:min(10, len(h.Dump))]).
			Advise("release it first, to give another reason or end")
	}
	if err != nil {
		return k.unwritable(err)
	}
	return nil
}

// Release ends a dump's hold.
func (k *Keep) Release(ctx context.Context, id string) error {
	err := k.st.Remove(ctx, holdFile(id))
	if errors.Is(err, fs.ErrNotExist) {
		return fault.Wrong("dump-not-held", "the dump %s is not on hold", id[:min(10, len(id))])
	}
	if err != nil {
		return k.unwritable(err)
	}
	return nil
}

// Holds gives the holds of a keep by the id of their dump, ended ones too. One that cannot be read
// holds its dump all the same, and says why in its reason.
func (k *Keep) Holds(ctx context.Context) (map[string]Hold, error) {
	holds := map[string]Hold{}
	err := k.st.List(ctx, holdsName, func(e store.Entry) error {
		id, ok := strings.CutSuffix(strings.TrimPrefix(e.Name, holdsName+"/"), holdEnding)
		if !ok || id == "" || id[0] == '.' {
			return nil
		}
		data, err := store.ReadAll(ctx, k.st, e.Name, maxSmall)
		var h Hold
		if err == nil {
			h, err = parseHold(data, id)
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			h = Hold{Dump: id, Why: "its record cannot be read: " + err.Error()}
		}
		holds[id] = h
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return holds, err
}

func parseHold(data []byte, id string) (h Hold, err error) {
	err = record.Decode(data, &h)
	if err == nil && h.Dump != id {
		err = errors.New("it is about another dump")
	}
	return h, err
}
