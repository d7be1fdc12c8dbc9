package record

import (
	"encoding/json"
	"slices"
)

// Members gives the members of r as JSON, by their names.
func (r *Record) Members() map[string]string {
	var m map[string]json.RawMessage
	b, err := json.Marshal(r)
	if err == nil {
		err = json.Unmarshal(b, &m)
	}
	if err != nil {
		return map[string]string{"JSON": err.Error()}
	}
	out := map[string]string{}
	for k, v := range m {
		out[k] = string(v)
	}
	return out
}

// Differing names what a and b have otherwise, or only one of them has, in order.
func Differing(a, b map[string]string) (names []string) {
	for name := range a {
		if a[name] != b[name] {
			names = append(names, name)
		}
	}
	for name := range b {
		if _, there := a[name]; !there {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
