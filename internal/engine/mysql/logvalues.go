package mysql

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"

	logclient "github.com/go-mysql-org/go-mysql/mysql"
)

// inLog are the types as which a column's values stand in the log; none: they are not followed.
func (c *column) inLog() []byte {
	switch c.kind {
	case "tinyint":
		return []byte{logclient.MYSQL_TYPE_TINY}
	case "smallint":
		return []byte{logclient.MYSQL_TYPE_SHORT}
	case "mediumint":
		return []byte{logclient.MYSQL_TYPE_INT24}
	case "int":
		return []byte{logclient.MYSQL_TYPE_LONG}
	case "bigint":
		return []byte{logclient.MYSQL_TYPE_LONGLONG}
	case "decimal":
		return []byte{logclient.MYSQL_TYPE_NEWDECIMAL}
	case "float":
		return []byte{logclient.MYSQL_TYPE_FLOAT}
	case "double":
		return []byte{logclient.MYSQL_TYPE_DOUBLE}
	case "bit":
		return []byte{logclient.MYSQL_TYPE_BIT}
	case "year":
		return []byte{logclient.MYSQL_TYPE_YEAR}
	case "date":
		return []byte{logclient.MYSQL_TYPE_DATE, logclient.MYSQL_TYPE_NEWDATE}
	case "time": // the older forms are not followed
		return []byte{logclient.MYSQL_TYPE_TIME2}
	case "datetime":
		return []byte{logclient.MYSQL_TYPE_DATETIME2}
	case "timestamp":
		return []byte{logclient.MYSQL_TYPE_TIMESTAMP2}
	case "char", "binary":
		return []byte{logclient.MYSQL_TYPE_STRING}
	case "varchar", "varbinary":
		return []byte{logclient.MYSQL_TYPE_VARCHAR, logclient.MYSQL_TYPE_VAR_STRING}
	case "tinytext", "text", "mediumtext", "longtext", "tinyblob", "blob", "mediumblob", "longblob":
		return []byte{logclient.MYSQL_TYPE_BLOB}
	case "enum":
		return []byte{logclient.MYSQL_TYPE_ENUM}
	case "set":
		return []byte{logclient.MYSQL_TYPE_SET}
	case "json":
		return []byte{logclient.MYSQL_TYPE_JSON}
	case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
		"geomcollection", "geometrycollection":
		return []byte{logclient.MYSQL_TYPE_GEOMETRY}
	}
	return nil
}

// width is the length of a BINARY column, in bytes.
func (c *column) width() int {
	n, err := strconv.Atoi(c.full)
	if err != nil {
		return 1
	}
	return n
}

// logKind is the type of a column in the log: one that stands for several says which in its own place.
func logKind(kind byte, meta uint16) byte {
	if kind == logclient.MYSQL_TYPE_STRING && meta >= 256 {
		if b := byte(meta >> 8); b&0x30 == 0x30 {
			return b
		}
	}
	return kind
}

// digitBytes are how many bytes so many digits of a decimal take.
var digitBytes = [10]int{0, 1, 1, 2, 2, 3, 3, 4, 4, 4}

// logLength says how long a value is, and what stands before it.
func logLength(kind byte, meta uint16, data []byte) (head, length int) {
	switch k := logKind(kind, meta); k {
	case logclient.MYSQL_TYPE_TINY, logclient.MYSQL_TYPE_YEAR:
		return 0, 1
	case logclient.MYSQL_TYPE_SHORT:
		return 0, 2
	case logclient.MYSQL_TYPE_INT24, logclient.MYSQL_TYPE_DATE, logclient.MYSQL_TYPE_NEWDATE:
		return 0, 3
	case logclient.MYSQL_TYPE_LONG, logclient.MYSQL_TYPE_FLOAT:
		return 0, 4
	case logclient.MYSQL_TYPE_LONGLONG, logclient.MYSQL_TYPE_DOUBLE:
		return 0, 8
	case logclient.MYSQL_TYPE_TIMESTAMP2:
		return 0, 4 + int(meta+1)/2
	case logclient.MYSQL_TYPE_DATETIME2:
		return 0, 5 + int(meta+1)/2
	case logclient.MYSQL_TYPE_TIME2:
		return 0, 3 + int(meta+1)/2
	case logclient.MYSQL_TYPE_NEWDECIMAL:
		whole, parts := int(meta>>8)-int(meta&0xff), int(meta&0xff)
		return 0, whole/9*4 + digitBytes[whole%9] + parts/9*4 + digitBytes[parts%9]
	case logclient.MYSQL_TYPE_BIT:
		return 0, (int(meta>>8)*8 + int(meta&0xff) + 7) / 8
	case logclient.MYSQL_TYPE_ENUM, logclient.MYSQL_TYPE_SET:
		return 0, int(meta & 0xff)
	case logclient.MYSQL_TYPE_BLOB, logclient.MYSQL_TYPE_GEOMETRY, logclient.MYSQL_TYPE_JSON, logclient.MYSQL_TYPE_VECTOR:
		return int(meta), int(little(data[:meta]))
	case logclient.MYSQL_TYPE_VARCHAR, logclient.MYSQL_TYPE_VAR_STRING, logclient.MYSQL_TYPE_STRING:
		most := int(meta)
		if k == logclient.MYSQL_TYPE_STRING && meta >= 256 {
			most = int(meta&0xff) | (int(meta>>8)&0x30^0x30)<<4
		}
		if most < 256 {
			return 1, int(data[0])
		}
		return 2, int(little(data[:2]))
	}
	panic(fmt.Sprintf("a value of the type %d", kind))
}

// little reads a number whose lowest byte comes first.
func little(b []byte) (n uint64) {
	for i, c := range b {
		n |= uint64(c) << (8 * i)
	}
	return n
}

// big reads a number whose highest byte comes first.
func big(b []byte) (n uint64) {
	for _, c := range b {
		n = n<<8 | uint64(c)
	}
	return n
}

// value writes a value as SQL, and says why it cannot; empty: it could.
func (c *logged) value(dst []byte, i int, row *image) ([]byte, string) {
	col, raw := &c.h.all[i], row.value[i]
	if raw == nil {
		return append(dst, "NULL"...), ""
	}
	meta := c.e.Table.ColumnMeta[i]
	switch kind := logKind(c.e.Table.ColumnType[i], meta); kind {
	case logclient.MYSQL_TYPE_TINY, logclient.MYSQL_TYPE_SHORT, logclient.MYSQL_TYPE_INT24, logclient.MYSQL_TYPE_LONG,
		logclient.MYSQL_TYPE_LONGLONG:
		n := little(raw)
		if col.unsigned {
			return strconv.AppendUint(dst, n, 10), ""
		}
		shift := 64 - 8*len(raw)
		return strconv.AppendInt(dst, int64(n<<shift)>>shift, 10), ""
	case logclient.MYSQL_TYPE_FLOAT:
		return strconv.AppendFloat(dst, float64(math.Float32frombits(binary.LittleEndian.Uint32(raw))), 'g', -1, 64), ""
	case logclient.MYSQL_TYPE_DOUBLE:
		return strconv.AppendFloat(dst, math.Float64frombits(binary.LittleEndian.Uint64(raw)), 'g', -1, 64), ""
	case logclient.MYSQL_TYPE_NEWDECIMAL:
		return appendDecimal(dst, raw, int(meta>>8), int(meta&0xff)), ""
	case logclient.MYSQL_TYPE_YEAR:
		if raw[0] == 0 {
			return append(dst, '0'), ""
		}
		return strconv.AppendInt(dst, 1900+int64(raw[0]), 10), ""
	case logclient.MYSQL_TYPE_DATE, logclient.MYSQL_TYPE_NEWDATE:
		n := little(raw)
		return append(appendDate(append(dst, '\''), n>>9, n>>5&15, n&31), '\''), ""
	case logclient.MYSQL_TYPE_TIME2, logclient.MYSQL_TYPE_DATETIME2, logclient.MYSQL_TYPE_TIMESTAMP2:
		return append(appendTime(append(dst, '\''), kind, raw, int(meta)), '\''), ""
	case logclient.MYSQL_TYPE_BIT:
		return append(hex.AppendEncode(append(dst, "x'"...), raw), '\''), ""
	case logclient.MYSQL_TYPE_ENUM:
		if little(raw) == 0 {
			return dst, "an ENUM column holds what is none of its members"
		}
		return strconv.AppendUint(dst, little(raw), 10), ""
	case logclient.MYSQL_TYPE_SET:
		return strconv.AppendUint(dst, little(raw), 10), ""
	case logclient.MYSQL_TYPE_JSON:
		if row.json != nil && row.json[i] {
			return appendJSONChanges(dst, quote(col.name), raw)
		}
		text, why := appendJSON(nil, raw)
		return append(append(append(dst, "_utf8mb4'"...), text...), '\''), why
	}
	if col.kind == "binary" { // the log leaves zeros at the end out
		raw = append(raw, make([]byte, max(0, col.width()-len(raw)))...)
	}
	f := c.forms[i]
	if f == inOwn && slices.ContainsFunc(raw, control) {
		f = hexa
	}
	if f == inOwn {
		return append(appendEscaped(append(dst, '\''), raw), '\''), ""
	}
	return append(hex.AppendEncode(append(dst, "x'"...), raw), '\''), ""
}

// appendDecimal writes an exact number: groups of nine digits, each a number, the sign in the highest bit.
func appendDecimal(dst, raw []byte, precision, scale int) []byte {
	var flipped [32]byte // no decimal is longer
	b := flipped[:copy(flipped[:], raw)]
	b[0] ^= 0x80
	if raw[0]&0x80 == 0 {
		for i := range b {
			b[i] ^= 0xff
		}
		dst = append(dst, '-')
	}
	whole, start := precision-scale, len(dst)
	dst, b = appendGroup(dst, b, whole%9)
	for range whole / 9 {
		dst, b = appendGroup(dst, b, 9)
	}
	zeros := start
	for zeros < len(dst) && dst[zeros] == '0' {
		zeros++
	}
	if dst = slices.Delete(dst, start, zeros); len(dst) == start {
		dst = append(dst, '0')
	}
	if scale > 0 {
		dst = append(dst, '.')
	}
	for range scale / 9 {
		dst, b = appendGroup(dst, b, 9)
	}
	dst, _ = appendGroup(dst, b, scale%9)
	return dst
}

// appendGroup writes some digits of a decimal, and gives what stands after them; none: nothing.
func appendGroup(dst, b []byte, digits int) (text, rest []byte) {
	if digits == 0 {
		return dst, b
	}
	n := digitBytes[digits]
	return appendDigits(dst, big(b[:n]), digits), b[n:]
}

// appendDigits writes a number with zeros before it.
func appendDigits(dst []byte, n uint64, digits int) []byte {
	at := len(dst)
	dst = strconv.AppendUint(dst, n, 10)
	for len(dst)-at < digits {
		dst = slices.Insert(dst, at, '0')
	}
	return dst
}

func appendDate(dst []byte, year, month, day uint64) []byte {
	dst = append(appendDigits(dst, year, 4), '-')
	return appendDigits(append(appendDigits(dst, month, 2), '-'), day, 2)
}

func appendClock(dst []byte, hour, minute, second uint64) []byte {
	dst = append(appendDigits(dst, hour, 2), ':')
	return appendDigits(append(appendDigits(dst, minute, 2), ':'), second, 2)
}

// appendTime writes a time of day, an instant or a date with a time, as the log packs them.
func appendTime(dst []byte, kind byte, raw []byte, digits int) []byte {
	fraction := (digits + 1) / 2
	head := len(raw) - fraction
	whole := int64(big(raw[:head]))
	part := int64(big(raw[head:]))
	for range 3 - fraction {
		part *= 100
	}
	switch kind {
	case logclient.MYSQL_TYPE_TIMESTAMP2:
		if whole == 0 && part == 0 {
			dst = append(dst, "0000-00-00 00:00:00"...)
		} else {
			dst = unixTime(whole).AppendFormat(dst, "2006-01-02 15:04:05")
		}
	case logclient.MYSQL_TYPE_DATETIME2:
		n := uint64(whole - 1<<39)
		ymd, hms := n>>17, n&(1<<17-1)
		dst = append(appendDate(dst, ymd>>5/13, ymd>>5%13, ymd&31), ' ')
		dst = appendClock(dst, hms>>12, hms>>6&63, hms&63)
	default:
		n := (whole-1<<23)<<24 + part
		if fraction > 0 && whole < 1<<23 { // a negative one: the fraction counts downwards
			part = int64(big(raw[head:]))
			n = (whole-1<<23)<<(8*fraction) + part
			if n < 0 {
				n = -n
				dst = append(dst, '-')
			}
			whole, part = n>>(8*fraction), n&(1<<(8*fraction)-1)
			for range 3 - fraction {
				part *= 100
			}
			n = whole<<24 + part
		} else if n < 0 {
			n = -n
			dst = append(dst, '-')
		}
		hms := uint64(n >> 24)
		part = n & (1<<24 - 1)
		dst = appendClock(dst, hms>>12&1023, hms>>6&63, hms&63)
	}
	if digits == 0 {
		return dst
	}
	dst = append(dst, '.')
	return appendDigits(dst, uint64(part), 6)[:len(dst)+digits]
}
