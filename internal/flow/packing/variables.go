package packing

import (
	"regexp"
	"strings"

	"warthesis/internal/oci"
)

// variable is a variable in a line, as in ${version}.
var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// fill puts the values of variables into their places, each once: what a value holds is no
// variable again.
func fill(text string, values map[string]string) (string, error) {
	var missing string
	filled := variable.ReplaceAllStringFunc(text, func(found string) string {
		name := found[2 : len(found)-1]
		value, has := values[name]
		if !has && missing == "" {
			missing = name
		}
		return value
	})
	switch {
	case missing != "":
		return "", oci.Errorf(oci.CodeQueryInvalid, "the variable %s has no value; give it with --set %s=VALUE", missing, missing)
	case strings.Contains(variable.ReplaceAllString(text, ""), "$"):
		return "", oci.Errorf(oci.CodeQueryInvalid, "%.80q has a $ in it that begins no variable; a variable is written ${name}", text)
	}
	return filled, nil
}

// Values reads NAME=VALUE pairs.
func Values(pairs []string) (map[string]string, error) {
	values := map[string]string{}
	for _, pair := range pairs {
		name, value, is := strings.Cut(pair, "=")
		if !is || !variable.MatchString("${"+name+"}") {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "%.80q gives no variable a value; write NAME=VALUE", pair)
		}
		if other, twice := values[name]; twice && other != value {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "the variable %s is given two values, %.80q and %.80q", name, other, value)
		}
		values[name] = value
	}
	return values, nil
}

// Unknown returns a variable that is given a value and stands nowhere in the list, "" for
// none.
func (l List) Unknown(values map[string]string) string {
	known := map[string]bool{}
	for _, name := range l.Variables() {
		known[name] = true
	}
	for name := range values {
		if !known[name] {
			return name
		}
	}
	return ""
}
