package api

import (
	"bytes"
	"encoding"
	"encoding/json"
	"reflect"
)

// Marshal returns a document as JSON, indented by two spaces unless it goes on one line, with a
// newline at its end. Lists and maps that are nil are written empty.
func Marshal(doc any, oneLine bool) ([]byte, error) {
	v := reflect.ValueOf(doc)
	filled := reflect.New(v.Type()).Elem()
	filled.Set(v)
	fill(filled)
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if !oneLine {
		e.SetIndent("", "  ")
	}
	err := e.Encode(filled.Interface())
	return b.Bytes(), err
}

var (
	marshals = reflect.TypeFor[json.Marshaler]()
	texts    = reflect.TypeFor[encoding.TextMarshaler]()
	raw      = reflect.TypeFor[json.RawMessage]()
)

// writesItself reports whether a type has JSON of its own.
func writesItself(t reflect.Type) bool {
	return t == raw || t.Implements(marshals) || reflect.PointerTo(t).Implements(marshals) ||
		t.Implements(texts) || reflect.PointerTo(t).Implements(texts)
}

// fill makes what is nil empty, in a value that can be set. What the document shares with others
// is copied before it is changed.
func fill(v reflect.Value) {
	switch v.Kind() {
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 || writesItself(v.Type()) {
			return
		}
		list := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		reflect.Copy(list, v)
		for i := range list.Len() {
			fill(list.Index(i))
		}
		v.Set(list)
	case reflect.Map:
		if writesItself(v.Type()) {
			return
		}
		table := reflect.MakeMapWithSize(v.Type(), v.Len())
		for _, key := range v.MapKeys() {
			x := reflect.New(v.Type().Elem()).Elem()
			x.Set(v.MapIndex(key))
			fill(x)
			table.SetMapIndex(key, x)
		}
		v.Set(table)
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() || writesItself(v.Type()) || writesItself(v.Elem().Type()) {
			return
		}
		x := reflect.New(v.Elem().Type())
		x.Elem().Set(v.Elem())
		fill(x.Elem())
		if v.Kind() == reflect.Pointer {
			v.Set(x)
		} else {
			v.Set(x.Elem())
		}
	case reflect.Struct:
		if writesItself(v.Type()) {
			return
		}
		for i := range v.NumField() {
			if f := v.Field(i); f.CanSet() && v.Type().Field(i).Tag.Get("json") != "-" {
				fill(f)
			}
		}
	}
}
