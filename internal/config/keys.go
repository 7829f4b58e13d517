package config

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"grainkeep/internal/fault"
	"grainkeep/internal/pattern"
	"grainkeep/internal/phrase"
	"grainkeep/internal/schedule"
)

// known are the keys of each section, for the advice on a misspelt one.
var known = map[string][]string{
	"":         {"timezone", "source", "keep", "job", "journal", "schedule", "tell", "keys", "refresh", "standby"},
	"journal":  {"folder", "source", "database", "keep_for"},
	"schedule": {"at_once", "listen", "token_sha256", "takeover"},
	"tell": {"by", "on", "jobs", "summary", "report", "again", "server", "tls", "ca", "user", "secret", "from", "to", "url",
		"facility"},
	"source": {"engine", "server", "user", "secret", "tls", "ca", "path", "accept", "dump", "restore", "check",
		"folder", "limit"},
	"keep": {"folder", "floor", "id", "retain", "thin", "mirror", "seal", "one_recipient", "sign", "signed_by",
		"store", "key", "known_hosts", "jump", "endpoint", "region", "style",
		"credentials", "profile", "storage_class", "lock", "encryption", "before", "after"},
	"job": {"source", "databases", "optional", "except", "keep", "copy_to", "seal", "one_recipient", "compression", "lock_wait", "silence",
		"workers", "server",
		"passwords", "drill_on", "skip_tables", "hold_writers", "copy_first",
		"full", "differential", "incremental", "changes", "log_limit", "copy", "drill", "drill_from",
		"verify", "grace", "retain", "thin", "name",
		"catch_up", "spread", "read_back", "limit",
		"drill_limit",
		"restore_limit", "tries", "wait", "priority", "rate", "accept", "rows", "check", "files", "before", "after",
		"after_drill"},
	"files": {"name", "folder", "only", "except", "split", "changed_by"},
	"refresh": {"dump", "from", "to", "as", "when", "unproven", "keep_old", "disconnect", "read_only", "owners", "owner", "with_roles",
		"sql", "limit", "mask", "mask_key", "before", "after"},
	"standby": {"dump", "from", "to", "as", "when", "behind", "until", "owners", "owner", "with_roles", "limit"},
	"rows":    {"table", "condition"},
	"check":   {"database", "sql", "answer"},
	"before":  steps, "after": steps, "after_drill": steps,
}

var steps = []string{"run", "shell", "limit", "folder", "user", "optional"}

// single are the sections of which there is one, without a name.
var single = map[string]bool{"journal": true, "schedule": true}

func explain(path string, err error) error {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) && len(strict.Errors) > 0 {
		e := strict.Errors[0]
		row, _ := e.Position()
		key := e.Key()
		name := key[len(key)-1]
		section := ""
		switch {
		case known[key[0]] == nil:
			name = key[0]
		case len(key) > 3 && known[key[2]] != nil:
			section = key[2]
		case len(key) > 1:
			section = key[0]
		}
		return fault.Wrong("key-unknown", "%s, line %d: there is no key %q", path, row, strings.Join(key, ".")).
			Advise("%sthe keys here are: %s", meant(name, known[section]), strings.Join(known[section], ", "))
	}
	var bad *toml.DecodeError
	if errors.As(err, &bad) {
		row, column := bad.Position()
		if m := wrongKind().FindStringSubmatch(bad.Error()); m != nil {
			return fault.Wrong("config-unclear", "%s, line %d: %s cannot be %s", path, row, strings.Join(bad.Key(),
				"."),
				kinds[strings.ToLower(m[1])]).Advise("it takes %s; see docs/configuration.md", taken(m[2]))
		}
		return fault.Wrong("config-unclear", "%s, line %d, column %d: %s", path, row, column,
			strings.TrimPrefix(bad.Error(), "toml: ")).
			Advise("see docs/configuration.md")
	}
	return fault.Wrong("config-unclear", "%s: %v", path, err)
}

// wrongKind is how the decoder says that a value is of another kind than its key.
var wrongKind = pattern.Of(`cannot decode TOML ([\w ]+?) into (?:a )?(?:struct field \S+ of type )?(\S+)`)

// kinds are the decoder's words for values, as people call them.
var kinds = map[string]string{"string": "a text", "integer": "a number", "float": "a number with a point",
	"bool": "true or false", "boolean": "true or false", "array": "a list", "inline table": "a table",
	"table":    "a table",
	"datetime": "a date"}

// taken says what a key takes, by the type that holds it.
func taken(of string) string {
	switch of {
	case "string":
		return `a text: "…"`
	case "bool":
		return "true or false, without quotes"
	case "int":
		return "a whole number, without quotes"
	case "[]string":
		return `a list of texts: ["…", "…"]`
	}
	return "a section of its own, with keys"
}

// meant suggests the nearest key, if it is one that a slip of the fingers makes into name.
func meant(name string, keys []string) string {
	best := nearest(name, keys)
	if distance(name, best) > max(1, len(name)/3) {
		return ""
	}
	return fmt.Sprintf("did you mean %q? ", best)
}

// nearest gives the known key that takes the fewest edits.
func nearest(name string, keys []string) string {
	best, least := "", 1<<30
	for _, k := range keys {
		if d := distance(name, k); d < least {
			best, least = k, d
		}
	}
	return best
}

func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diagonal, row[j+1] = row[j+1], min(row[j]+1, row[j+1]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}

// Schedules reads a key of when-phrases: one, or a list.
func Schedules(value any) ([]*phrase.Schedule, error) {
	texts, err := phrases(value)
	if err != nil {
		return nil, err
	}
	return schedule.Schedules(texts)
}

// phrases reads a key that takes a text, or a list of texts.
func phrases(value any) (list []string, err error) {
	switch v := value.(type) {
	case nil:
	case string:
		list = []string{v}
	case []any:
		for _, x := range v {
			s, ok := x.(string)
			if !ok {
				return nil, errors.New("it takes a text, or a list of texts")
			}
			list = append(list, s)
		}
	default:
		return nil, errors.New("it takes a text, or a list of texts")
	}
	return list, nil
}

// exact refuses a key in other letters than its own, which the decoder takes all the same.
func exact(path string, data []byte) error {
	var all map[string]any
	if err := toml.Unmarshal(data, &all); err != nil {
		return explain(path, err)
	}
	return exactKeys(path, "", "", all)
}

// exactKeys looks at the keys of a table, of a section, and of what stands in it.
func exactKeys(path, where, section string, table map[string]any) error {
	for _, key := range sorted(table) {
		full := strings.TrimPrefix(where+"."+key, ".")
		if !slices.Contains(known[section], key) {
			return fault.Wrong("key-unknown", "%s: there is no key %q", path, full).
				Advise("did you mean %q? Keys are written in small letters", nearest(strings.ToLower(key),
					known[section]))
		}
		if section != "" && known[key] == nil {
			continue
		}
		var list []any
		switch v := table[key].(type) {
		case map[string]any:
			if section == "" && single[key] {
				if err := exactKeys(path, full, key, v); err != nil {
					return err
				}
				continue
			}
			for _, name := range sorted(v) { // [source.NAME]
				if t, ok := v[name].(map[string]any); ok && section == "" {
					if err := exactKeys(path, full+"."+name, key, t); err != nil {
						return err
					}
				}
			}
		case []any:
			list = v
		}
		for _, x := range list { // [[job.NAME.check]]
			if t, ok := x.(map[string]any); ok {
				if err := exactKeys(path, full, key, t); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
