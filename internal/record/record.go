// Package record is the form of everything that a keep says about itself: JSON that
// ends in a check over its own lines, so that damage to it is told from anything else.
// Whoever can write to a keep can compute that check too: it finds accidents, and
// signatures find people.
package record

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
)

// checkKey is the key of the last line.
const checkKey = "sha256_of_the_lines_above"

// Bounds of what is decoded. An object of a record that a keep writes takes far more
// text than perObject; text with more objects than that would take many times its size
// of memory.
const (
	maxDepth   = 16
	perObject  = 24   // bytes of text
	objectsTop = 1000 // that any text may have
)

// Encode gives a record's bytes, and its id: their SHA-256.
func Encode(v any) (data []byte, id string, err error) {
	data, err = json.MarshalIndent(v, "", "  ")
	if err != nil {
		return nil, "", err
	}
	if !bytes.HasSuffix(data, []byte("\n}")) {
		return nil, "", errors.New("a record is an object with at least one key")
	}
	data = append(bytes.TrimSuffix(data, []byte("\n}")), ",\n"...)
	data = append(data, lastLine(data)...)
	return data, ID(data), nil
}

func lastLine(above []byte) string {
	sum := sha256.Sum256(above)
	return fmt.Sprintf("  %q: %q\n}\n", checkKey, hex.EncodeToString(sum[:]))
}

// ID gives the id of a record's bytes.
func ID(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Decode reads a record into v, after its check and its bounds. What it says is still
// not to be trusted.
func Decode(data []byte, v any) error {
	at := bytes.LastIndex(data, []byte("  \""+checkKey+"\": \""))
	if at < 0 {
		return errors.New("its last line is not the check over the lines above")
	}
	if string(data[at:]) != lastLine(data[:at]) {
		return errors.New("the check in its last line does not match the lines above")
	}
	return Unmarshal(data, v)
}

// Unmarshal is json.Unmarshal for text of others: its depth and the memory that it can
// take are bounded by its size.
func Unmarshal(data []byte, v any) error {
	if err := bounded(data); err != nil {
		return err
	}
	return json.Unmarshal(data, v)
}

func bounded(data []byte) error {
	depth, objects := 0, 0
	inText := false
	for i := 0; i < len(data); i++ {
		c := data[i]
		if inText {
			switch c {
			case '\\':
				i++
			case '"':
				inText = false
			}
			continue
		}
		switch c {
		case '"':
			inText = true
		case '{', '[':
			objects++
			if depth++; depth > maxDepth {
				return fmt.Errorf("it is nested more than %d deep", maxDepth)
			}
		case '}', ']':
			depth--
		}
	}
	if objects > objectsTop+len(data)/perObject {
		return errors.New("it has more objects than such text can have")
	}
	return nil
}
