package manifest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
)

// sealedSample is the outside of a sealed dump, with what is inside.
func sealedSample(t require.TestingT) (outer *Manifest, inner, names []byte) {
	m := sample()
	inner, id, err := m.Encode()
	require.NoError(t, err)
	numbers := map[string]string{Name: SealedFile(1), Sums: SealedFile(2)}
	files := []File{{Path: SealedKey, SHA256: id}, {Path: SealedNames, SHA256: id}, {Path: Readme, SHA256: id}}
	for i, f := range m.Files {
		numbers[f.Path] = SealedFile(i + 3)
	}
	for n := range len(m.Files) + 2 {
		files = append(files, File{Path: SealedFile(n + 1), Bytes: 300, SHA256: id})
	}
	return m.Outside(id, []string{"age1…"}, files), inner, NameList(numbers)
}

func TestWhatIsOutsideOfASeal(t *testing.T) {
	outer, inner, names := sealedSample(t)
	data, _, err := outer.Encode()
	require.NoError(t, err)
	for _, secret := range []string{"posting", `"rows"`, `"tables"`, `"user"`, `"note"`} {
		require.NotContains(t, string(data), secret)
	}
	outer, _, err = Decode(data)
	require.NoError(t, err)
	require.True(t, outer.Locked())
	require.Zero(t, outer.Rows())
	in, err := outer.Unlock(inner, names)
	require.NoError(t, err)
	require.False(t, in.Locked())
	require.Equal(t, sample().Tables(), in.Tables())
	for _, f := range in.Files {
		require.Regexp(t, sealedNumber(), f.In)
	}
	require.Equal(t, outer.StoredBytes, in.StoredBytes)

	for say, spoil := range map[string]func(){
		"another dump than it says":   func() { outer.Seal.Of = strings.Repeat("0", 64) },
		"is not what is inside":       func() { outer.Database = "other" },
		"no sealed file is":           func() { names = names[:strings.LastIndex(string(names[:len(names)-1]), "\n")+1] },
		"has a line that is none":     func() { names = append(names, "nonsense\n"...) },
		"manifest.json is damaged":    func() { inner = inner[:len(inner)/2] },
		"leads elsewhere":             func() { names = append(names, "000099.age ../../etc/passwd\n"...) },
		`has a line that is none: "0`: func() { names = append(names, "000001.age 20-data/x\n"...) },
	} {
		outer, inner, names = sealedSample(t)
		spoil()
		_, err := outer.Unlock(inner, names)
		require.ErrorContains(t, err, say)
		require.True(t, fault.HasCode(err, "manifest-damaged"), say)
	}
	for say, spoil := range map[string]func(m *Manifest){
		"id of the dump that is sealed":    func(m *Manifest) { m.Seal.Of = "x" },
		"for whom it is sealed":            func(m *Manifest) { m.Seal.For = nil },
		"tells what is inside":             func(m *Manifest) { m.Warnings = []Warning{{"shrunk", "posting lost rows"}} },
		"sealed, and tells":                func(m *Manifest) { m.Payload.SQL = &SQL{} },
		"has a file of the name":           func(m *Manifest) { m.Files[0].Path = "20-data/x" },
		"it has no file dump-key.age":      func(m *Manifest) { m.Files[len(m.Files)-2].Path = SealedFile(77) },
		"the name of its folder is none":   func(m *Manifest) { m.Seal.Folder = "../x" },
		"from which it was sealed anew":    func(m *Manifest) { m.Seal.Was = "x" },
		"its sizes are not the sum of its": func(m *Manifest) { m.StoredBytes++ },
		"its size is not possible":         func(m *Manifest) { m.RawBytes = -1 },
		"payload is of the unknown type":   func(m *Manifest) { m.Payload.Type = "tarot" },
	} {
		m, _, _ := sealedSample(t)
		spoil(m)
		data, _, err := record.Encode(m)
		require.NoError(t, err)
		_, _, err = Decode(data)
		require.ErrorContains(t, err, say, fmt.Sprint(m.Files))
	}
}

// FuzzSealed reads what is around and inside of sealed dumps of others.
func FuzzSealed(f *testing.F) {
	outer, inner, names := sealedSample(f)
	f.Add(inner, names)
	f.Fuzz(func(t *testing.T, inner, names []byte) {
		numbers, err := ParseNames(names)
		if err == nil {
			again, err := ParseNames(NameList(numbers))
			require.NoError(t, err)
			require.Equal(t, numbers, again)
		}
		o := *outer
		s := *outer.Seal
		o.Seal, s.Of = &s, record.ID(inner)
		m, err := o.Unlock(inner, names)
		if err != nil {
			return
		}
		for _, f := range m.Files {
			require.Regexp(t, sealedNumber(), f.In)
		}
	})
}
