package payload

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"

	"grainkeep/internal/blob"
	"grainkeep/internal/engine"
	"grainkeep/internal/event"
	"grainkeep/internal/fault"
	"grainkeep/internal/manifest"
	"grainkeep/internal/step"
	"grainkeep/internal/stream"
)

// Stream captures what a command writes. It is used once.
type Stream struct {
	Source      stream.Source
	Facts       step.Facts
	Compression blob.Compression
}

// streamFile is where the bytes are in a dump.
const streamFile = string(engine.Data) + "/stream"

// Capture implements Capture.
func (s *Stream) Capture(ctx context.Context, set *blob.Set, feed *event.Feed) (manifest.Payload, error) {
	before, err := s.Source.Facts(ctx, s.Facts, feed)
	if err != nil {
		return manifest.Payload{}, err
	}
	path := streamFile + s.Compression.Ending()
	f, err := set.Create(ctx, path, s.Compression)
	if err != nil {
		return manifest.Payload{}, err
	}
	h := sha256.New()
	count := &counting{meter: feed.Gauge()}
	err = s.Source.Write(ctx, io.MultiWriter(f, h, count), s.Facts, feed)
	if err == nil && count.n == 0 {
		err = fault.New("stream-empty", nil, "the dump command of %s ended well and wrote nothing: that is no dump",
			s.Source.Name).
			Advise("it writes the dump to its standard output")
	}
	if _, e := f.Close(err); err == nil {
		err = e
	}
	if err != nil {
		return manifest.Payload{}, errors.Join(err, context.Cause(ctx))
	}
	after, err := s.Source.Facts(ctx, s.Facts, feed)
	if err != nil {
		return manifest.Payload{}, err
	}
	return manifest.Payload{Type: manifest.TypeStream, Stream: &manifest.Stream{File: path, Bytes: count.n,
		SHA256: hex.EncodeToString(h.Sum(nil)), Facts: stream.Same(before, after),
		Restorable: s.Source.Restore != nil}}, nil
}

// counting counts what passes.
type counting struct {
	meter *event.Meter
	n     int64
}

// Write implements io.Writer.
func (c *counting) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	c.meter.Bytes.Add(int64(len(p)))
	return len(p), nil
}
