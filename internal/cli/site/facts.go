package site

import (
	"reflect"
	"strings"
	"time"
)

// describe names the fields of what a command prints as JSON, "" for nothing.
func describe(facts, or any, lines bool) string {
	if facts == nil {
		return ""
	}
	if or != nil {
		return describe(facts, nil, lines) + "; or " + describe(or, nil, lines)
	}
	t := reflect.TypeOf(facts)
	before := ""
	switch {
	case lines:
		before = "a line each: "
	case t.Kind() == reflect.Slice:
		before, t = "a list of: ", t.Elem()
	}
	return before + strings.Join(fieldsOf(t, ""), ", ")
}

// fieldsOf names the fields of a type, with those of the types within it.
func fieldsOf(t reflect.Type, within string) []string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() == reflect.Slice && t.Elem().Kind() != reflect.Uint8 {
		return fieldsOf(t.Elem(), within+"[]")
	}
	if t.Kind() != reflect.Struct || t == reflect.TypeFor[time.Time]() {
		if within == "" {
			within = "text"
		}
		return []string{within}
	}
	var names []string
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			names = append(names, fieldsOf(f.Type, within)...)
			continue
		}
		if !f.IsExported() || name == "-" {
			continue
		}
		if name == "" {
			name = f.Name
		}
		if within != "" {
			name = within + "." + name
		}
		names = append(names, fieldsOf(f.Type, name)...)
	}
	return names
}
