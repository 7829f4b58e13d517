package config

import (
	"slices"
	"strings"

	"grainkeep/internal/mask"
)

// Masks reads the masks of a refresh, sorted by their patterns.
func (f *File) Masks(name string) (list []mask.Rule, err error) {
	where := "refresh." + name
	flat := map[string]any{}
	flatten("", f.Refresh[name].Mask, flat)
	for _, pattern := range sorted(flat) {
		r := mask.Rule{Pattern: pattern}
		switch v := flat[pattern].(type) {
		case string:
			r.How = mask.How(v)
		case map[string]any:
			r.How, r.Value = mask.Fixed, v["fixed"].(string)
		}
		if !slices.Contains(mask.Hows, r.How) || r.How == mask.Fixed && flat[pattern] == string(mask.Fixed) {
			return nil, f.wrong(where, "the mask of %q is %q", pattern, flat[pattern]).
				Advise(`write "clear", "empty", "hash", "made-up", "shuffle", or {fixed = "…"}`)
		}
		if !strings.ContainsAny(pattern, ".*") {
			return nil, f.wrong(where, "the mask %q names no column", pattern).
				Advise("write TABLE.COLUMN, with * and ? for any: \"customer.mail\", \"*.phone\"")
		}
		list = append(list, r)
	}
	return list, nil
}

// flatten takes names with dots as one, written with quotes or not.
func flatten(before string, from, into map[string]any) {
	for key, v := range from {
		if before != "" {
			key = before + "." + key
		}
		inner, table := v.(map[string]any)
		if _, fixed := inner["fixed"].(string); table && !(fixed && len(inner) == 1) {
			flatten(key, inner, into)
			continue
		}
		into[key] = v
	}
}

// checkMasks looks at the masks of a refresh, and at what they need.
func (f *File) checkMasks(name string, r Refresh) error {
	rules, err := f.Masks(name)
	if err != nil {
		return err
	}
	where := "refresh." + name
	if r.MaskKey != "" && !isPlace(r.MaskKey) {
		return f.wrong(where, "the key itself must not stand in this file").
			Advise("write mask_key = \"file:/path\" or \"env:NAME\", and take another key than the one that stood here")
	}
	keyed := slices.IndexFunc(rules, func(r mask.Rule) bool { return r.How == mask.Hash || r.How == mask.MadeUp || r.How == mask.Shuffle })
	if keyed >= 0 && r.MaskKey == "" {
		return f.wrong(where, "the mask %q of %s needs a key, and mask_key is missing",
			rules[keyed].How, rules[keyed].Pattern).
			Advise("head -c 24 /dev/urandom | base64 > FILE; chmod 600 FILE; and mask_key = \"file:FILE\": with the same key, " +
				"equal values stay equal from one refresh to the next")
	}
	return nil
}
