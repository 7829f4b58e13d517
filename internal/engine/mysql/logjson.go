package mysql

import (
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
)

// MySQL keeps JSON in a form of its own, and writes that into its log: a byte that says the type, then the value.
// Objects and arrays begin with a table of offsets. See the server's own documentation of its JSON format.
const (
	smallObject = iota
	largeObject
	smallArray
	largeArray
	jsonLiteral
	jsonInt16
	jsonUint16
	jsonInt32
	jsonUint32
	jsonInt64
	jsonUint64
	jsonDouble
	jsonString
	jsonOpaque = 15
)

// mostJSON bounds the text of a value, in bytes: offsets may lead back.
const mostJSON = 1 << 30

// deepestJSON is more than the server allows JSON to be nested.
const deepestJSON = 120

// appendJSON writes JSON as the inside of a text of SQL, and says why it cannot; empty: it could. It panics where the
// value goes beyond its end.
func appendJSON(dst, raw []byte) ([]byte, string) {
	if len(raw) == 0 { // a value that somebody had IGNORE put there
		return append(dst, "null"...), ""
	}
	text, why := jsonText(nil, raw[0], raw[1:], 0)
	return appendEscaped(dst, text), why
}

// jsonText writes a value of a type.
func jsonText(dst []byte, kind byte, b []byte, depth int) ([]byte, string) {
	if depth > deepestJSON || len(dst) > mostJSON {
		return dst, "its JSON in the log has no end"
	}
	switch kind {
	case smallObject, largeObject, smallArray, largeArray:
		return jsonList(dst, kind, b, depth)
	case jsonLiteral:
		return append(dst, [...]string{"null", "true", "false"}[b[0]]...), ""
	case jsonInt16:
		return strconv.AppendInt(dst, int64(int16(little(b[:2]))), 10), ""
	case jsonUint16:
		return strconv.AppendUint(dst, little(b[:2]), 10), ""
	case jsonInt32:
		return strconv.AppendInt(dst, int64(int32(little(b[:4]))), 10), ""
	case jsonUint32:
		return strconv.AppendUint(dst, little(b[:4]), 10), ""
	case jsonInt64:
		return strconv.AppendInt(dst, int64(little(b[:8])), 10), ""
	case jsonUint64:
		return strconv.AppendUint(dst, little(b[:8]), 10), ""
	case jsonDouble: // without a point it would become another type
		at := len(dst)
		dst = strconv.AppendFloat(dst, math.Float64frombits(binary.LittleEndian.Uint64(b)), 'g', -1, 64)
		if !strings.ContainsAny(string(dst[at:]), ".e") {
			dst = append(dst, ".0"...)
		}
		return dst, ""
	case jsonString:
		length, n := jsonLength(b)
		return jsonQuoted(dst, b[n:n+length]), ""
	case jsonOpaque:
		length, n := jsonLength(b[1:])
		return jsonOwn(dst, b[0], b[1+n:1+n+length]), ""
	}
	return dst, fmt.Sprintf("its JSON in the log has a value of the unknown type %d", kind)
}

// jsonList writes an object or an array.
func jsonList(dst []byte, kind byte, b []byte, depth int) ([]byte, string) {
	object := kind == smallObject || kind == largeObject
	size := 2 // of an offset, in bytes
	if kind == largeObject || kind == largeArray {
		size = 4
	}
	number := func(at, n int) int { return int(little(b[at : at+n])) }
	count := number(0, size)
	keys, values := 2*size, 2*size
	if object {
		values += count * (size + 2)
	}
	open, end := byte('['), byte(']')
	if object {
		open, end = '{', '}'
	}
	dst = append(dst, open)
	for i := range count {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		if object {
			at := keys + i*(size+2)
			from := number(at, size)
			dst = append(jsonQuoted(dst, b[from:from+number(at+size, 2)]), ": "...)
		}
		at := values + i*(size+1)
		inside := b[at+1 : at+1+size]
		switch k := b[at]; {
		case k == jsonLiteral, k == jsonInt16, k == jsonUint16, size == 4 && (k == jsonInt32 || k == jsonUint32):
		default:
			inside = b[number(at+1, size):]
		}
		var why string
		if dst, why = jsonText(dst, b[at], inside, depth+1); why != "" {
			return dst, why
		}
	}
	return append(dst, end), ""
}

// jsonLength reads a length, seven bits in each byte, and how many bytes that took.
func jsonLength(b []byte) (length, n int) {
	for shift := 0; ; shift += 7 {
		length |= int(b[n]&0x7f) << shift
		n++
		if b[n-1]&0x80 == 0 || n == 5 {
			return length, n
		}
	}
}

// jsonQuoted writes a text as JSON.
func jsonQuoted(dst, s []byte) []byte {
	dst = append(dst, '"')
	for _, c := range s {
		switch {
		case c == '"' || c == '\\':
			dst = append(dst, '\\', c)
		case c < ' ':
			dst = fmt.Appendf(dst, `\u%04x`, c)
		default:
			dst = append(dst, c)
		}
	}
	return append(dst, '"')
}

// jsonOwn writes a value of one of the server's own types as the server shows it: there is no JSON for it.
func jsonOwn(dst []byte, kind byte, b []byte) []byte {
	switch kind {
	case logclient.MYSQL_TYPE_NEWDECIMAL:
		return appendDecimal(dst, b[2:], int(b[0]), int(b[1]))
	case logclient.MYSQL_TYPE_DATE, logclient.MYSQL_TYPE_DATETIME, logclient.MYSQL_TYPE_TIMESTAMP:
		n := int64(little(b[:8]))
		ymd, hms := n>>41, n>>24&(1<<17-1)
		dst = fmt.Appendf(dst, `"%04d-%02d-%02d`, ymd>>5/13, ymd>>5%13, ymd&31)
		if kind != logclient.MYSQL_TYPE_DATE {
			dst = fmt.Appendf(dst, " %02d:%02d:%02d.%06d", hms>>12, hms>>6&63, hms&63, n&(1<<24-1))
		}
		return append(dst, '"')
	case logclient.MYSQL_TYPE_TIME:
		n := int64(little(b[:8]))
		sign := ""
		if n < 0 {
			sign, n = "-", -n
		}
		hms := n >> 24
		return fmt.Appendf(dst, `"%s%02d:%02d:%02d.%06d"`, sign, hms>>12&1023, hms>>6&63, hms&63, n&(1<<24-1))
	}
	return fmt.Appendf(dst, `"base64:type%d:%s"`, kind, base64.StdEncoding.EncodeToString(b))
}

// Changes within JSON, as the log has them.
const (
	jsonReplaced = iota
	jsonInserted
	jsonRemoved
)

// appendJSONChanges writes what becomes of a column's JSON, where the log tells only what changed in it.
func appendJSONChanges(dst []byte, column string, raw []byte) ([]byte, string) {
	expression := column
	text := func() []byte {
		length, _, n := logclient.LengthEncodedInt(raw)
		s := raw[n : n+int(length)]
		raw = raw[n+int(length):]
		return s
	}
	for len(raw) > 0 {
		change := raw[0]
		raw = raw[1:]
		path := text()
		where := ", _utf8mb4'" + string(appendEscaped(nil, path)) + "'"
		if change == jsonRemoved {
			expression = "JSON_REMOVE(" + expression + where + ")"
			continue
		}
		value, why := appendJSON(nil, text())
		if why != "" {
			return dst, why
		}
		function := "JSON_REPLACE("
		switch {
		case change == jsonInserted && strings.HasSuffix(string(path), "]"):
			function = "JSON_ARRAY_INSERT("
		case change == jsonInserted:
			function = "JSON_INSERT("
		case change != jsonReplaced:
			return dst, "its JSON in the log changed in an unknown way"
		}
		expression = function + expression + where + ", CAST(_utf8mb4'" + string(value) + "' AS JSON))"
	}
	return append(dst, expression...), ""
}

// unixTime is an instant by its seconds since 1970.
func unixTime(seconds int64) time.Time { return time.Unix(seconds, 0).UTC() }
