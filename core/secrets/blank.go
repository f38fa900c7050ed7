package secrets

import (
	"reflect"
	"regexp"
	"strconv"
	"strings"
)

var block = regexp.MustCompile(`(?s)-----BEGIN [A-Z0-9 ]*PRIVATE KEY[A-Z0-9 ]*-----.*?(-----END [A-Z0-9 ]*-----|$)`)

// Blank returns a text with what it holds of private keys blanked, and whether it
// held any. Of a text in which a block can be told from what is around it, the rest
// stays; else line by line; else nothing of it.
func Blank(text string) (string, bool) {
	if !Holds(text) {
		return text, false
	}
	out := block.ReplaceAllLiteralString(text, Blanked)
	if !Holds(out) {
		return out, true
	}
	lines := strings.SplitAfter(out, "\n")
	for n, l := range lines {
		if Holds(l) {
			end := l[len(strings.TrimRight(l, "\r\n")):]
			lines[n] = Blanked + end
		}
	}
	if out = strings.Join(lines, ""); !Holds(out) {
		return out, true
	}
	return Blanked, true
}

// Each calls use for every string in a value, with the way to it, and puts what use
// returns in its place: exported fields, elements,
// map keys and values, what pointers and interfaces lead to, and byte slices. v is
// a pointer.
func Each(v any, use func(path, text string) string) {
	each("", reflect.ValueOf(v), use, 0)
}

// maxNested is how deep a value may go: JSON's own limit is far above what any
// document of ours has.
const maxNested = 60

func each(path string, v reflect.Value, use func(path, text string) string, depth int) {
	if depth > maxNested || !v.IsValid() {
		return
	}
	switch v.Kind() {
	case reflect.String:
		if now := use(path, v.String()); now != v.String() && v.CanSet() {
			v.SetString(now)
		}
	case reflect.Pointer:
		each(path, v.Elem(), use, depth+1)
	case reflect.Interface:
		if v.IsNil() {
			return
		}
		inner := reflect.New(v.Elem().Type()).Elem()
		inner.Set(v.Elem())
		each(path, inner, use, depth+1)
		if v.CanSet() {
			v.Set(inner)
		}
	case reflect.Struct:
		t := v.Type()
		for n := range t.NumField() {
			if t.Field(n).IsExported() {
				name, _, _ := strings.Cut(t.Field(n).Tag.Get("json"), ",")
				if name == "" {
					name = t.Field(n).Name
				}
				if t.Field(n).Anonymous {
					name = ""
				}
				each(join(path, name), v.Field(n), use, depth+1)
			}
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 && v.Kind() == reflect.Slice {
			if now := use(path, string(v.Bytes())); now != string(v.Bytes()) && v.CanSet() {
				v.SetBytes([]byte(now))
			}
			return
		}
		for n := range v.Len() {
			each(join(path, strconv.Itoa(n)), v.Index(n), use, depth+1)
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			key := reflect.New(k.Type()).Elem()
			key.Set(k)
			each(path, key, use, depth+1)
			value := reflect.New(v.Type().Elem()).Elem()
			value.Set(v.MapIndex(k))
			name := path
			if k.Kind() == reflect.String {
				name = join(path, k.String())
			}
			each(name, value, use, depth+1)
			v.SetMapIndex(k, reflect.Value{})
			v.SetMapIndex(key, value)
		}
	}
}

func join(path, name string) string {
	if path == "" || name == "" {
		return path + name
	}
	return path + "." + name
}

// BlankAll blanks every string of a value that came from an instance or a cloud,
// and returns where something was blanked. v is a pointer.
func BlankAll(v any) []string {
	var at []string
	Each(v, func(path, text string) string {
		now, found := Blank(text)
		if found {
			at = append(at, path)
		}
		return now
	})
	return at
}
