package ask

import (
	"bytes"
	"encoding/hex"
	"strconv"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"

	"grainkeep/internal/engine"
)

// charsets are the character sets of MariaDB and MySQL whose texts are not in UTF-8. Its latin1 is Windows-1252.
var charsets = map[string]encoding.Encoding{"latin1": charmap.Windows1252, "latin2": charmap.ISO8859_2, "latin5": charmap.ISO8859_9,
	"latin7": charmap.ISO8859_13, "greek": charmap.ISO8859_7, "hebrew": charmap.ISO8859_8, "cp1250": charmap.Windows1250,
	"cp1251": charmap.Windows1251, "cp1256": charmap.Windows1256, "cp1257": charmap.Windows1257, "cp850": charmap.CodePage850,
	"cp852": charmap.CodePage852, "cp866": charmap.CodePage866, "koi8r": charmap.KOI8R, "koi8u": charmap.KOI8U,
	"macroman": charmap.Macintosh, "ucs2": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM),
	"utf16": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM), "utf16le": unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
	"utf32": utf32.UTF32(utf32.BigEndian, utf32.IgnoreBOM)}

// cell is what a value of a column means. Its bytes are valid as long as the value's.
func cell(text engine.RowText, c *engine.Column, v engine.Value) engine.Cell {
	switch v.Kind {
	case engine.Null:
		return engine.Cell{}
	case engine.Number:
		return number(v.Data)
	case engine.Bytes:
		if c.Class == engine.Texts && c.Charset != "" {
			return inUTF8(c.Charset, v.Data)
		}
		return engine.Cell{Kind: engine.BytesCell, Data: v.Data}
	}
	if sqliteText(text) {
		return engine.Cell{Kind: engine.TextCell, Data: v.Data}
	}
	switch c.Class {
	case engine.Integer, engine.Decimal, engine.Real:
		return number(v.Data)
	case engine.Boolean:
		return engine.Cell{Kind: engine.IntCell, Int: int64(map[bool]int{true: 1}[len(v.Data) > 0 && v.Data[0] == 't'])}
	case engine.Binary:
		if digits, is := bytes.CutPrefix(v.Data, []byte(`\x`)); is && text.Copied {
			if raw, err := hex.AppendDecode(nil, digits); err == nil {
				return engine.Cell{Kind: engine.BytesCell, Data: raw}
			}
		}
		return engine.Cell{Kind: engine.BytesCell, Data: v.Data}
	case engine.Date: // times of zones are in UTC, and SQLite's functions know no "+00"
		return engine.Cell{Kind: engine.TextCell, Data: bytes.TrimSuffix(v.Data, []byte("+00"))}
	case engine.Texts:
		if c.Charset != "" {
			return inUTF8(c.Charset, v.Data)
		}
	}
	return engine.Cell{Kind: engine.TextCell, Data: v.Data}
}

// number is a decimal; one that no number of 64 bits is stays a text.
func number(data []byte) engine.Cell {
	if len(data) < 19 {
		n, i := int64(0), 0
		if len(data) > 1 && data[0] == '-' {
			i = 1
		}
		for ; i < len(data) && data[i] >= '0' && data[i] <= '9'; i++ {
			n = n*10 + int64(data[i]-'0')
		}
		if i == len(data) && i > 0 {
			if data[0] == '-' {
				n = -n
			}
			return engine.Cell{Kind: engine.IntCell, Int: n}
		}
		if len(data) <= exactDigits && i > 0 && i < len(data) && data[i] == '.' {
			if x, ok := fraction(n, data[i+1:]); ok {
				return engine.Cell{Kind: engine.RealCell, Real: signed(x, data[0] == '-')}
			}
		}
	}
	if n, err := strconv.ParseInt(string(data), 10, 64); err == nil {
		return engine.Cell{Kind: engine.IntCell, Int: n}
	}
	if x, err := strconv.ParseFloat(string(data), 64); err == nil && x == x {
		return engine.Cell{Kind: engine.RealCell, Real: x}
	}
	return engine.Cell{Kind: engine.TextCell, Data: data}
}

// exactDigits is how many digits an integer has at most that a number of 64 bits with a point holds exactly.
const exactDigits = 15

// fraction adds the digits after a point: two exact numbers, divided once, are as near as can be.
func fraction(whole int64, digits []byte) (float64, bool) {
	by := 1.0
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, false
		}
		whole, by = whole*10+int64(c-'0'), by*10
	}
	return float64(whole) / by, len(digits) > 0
}

func signed(x float64, minus bool) float64 {
	if minus {
		return -x
	}
	return x
}

// inUTF8 is a text of a character set. What is not valid in it stays as bytes.
func inUTF8(charset string, data []byte) engine.Cell {
	set := charsets[charset]
	if set != nil && (charset[0] == 'u' || bytes.ContainsFunc(data, func(r rune) bool { return r >= utf8.RuneSelf })) {
		if text, err := set.NewDecoder().Bytes(data); err == nil {
			data = text
		}
	}
	if !utf8.Valid(data) {
		return engine.Cell{Kind: engine.BytesCell, Data: data}
	}
	return engine.Cell{Kind: engine.TextCell, Data: data}
}
