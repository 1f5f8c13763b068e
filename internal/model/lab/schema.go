package lab

// Schema returns the JSON Schema (2020-12) of the lab file, made from the same
// tables that read it.
func Schema() map[string]any {
	s := form{Type: "object", Properties: properties(labFields()), Required: []string{"bastion", "lab"}}.schema()
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Open Bastion lab file, format 1"
	return s
}

func (f form) schema() map[string]any {
	if f.Open != "" {
		f.Open = ""
		return map[string]any{"anyOf": []any{f.schema(), map[string]any{"const": later}}}
	}
	s := map[string]any{}
	if f.Type != "" {
		s["type"] = f.Type
	}
	if f.Enum != nil {
		s["enum"] = f.Enum
	}
	if f.Pattern != "" {
		s["pattern"] = f.Pattern
	}
	if f.Max != 0 {
		s["minimum"], s["maximum"] = f.Min, f.Max
	}
	if f.Items != nil {
		s["items"] = f.Items.schema()
	}
	if f.Values != nil {
		s["additionalProperties"] = f.Values.schema()
		if f.Named {
			s["propertyNames"] = map[string]any{"pattern": namePattern}
		}
	}
	if f.Properties != nil {
		props := map[string]any{}
		for _, p := range f.Properties {
			v := p.form.schema()
			v["description"] = p.doc
			props[p.name] = v
		}
		s["properties"], s["additionalProperties"] = props, false
	}
	if f.Required != nil {
		s["required"] = f.Required
	}
	if f.OneOf != nil {
		list := make([]any, len(f.OneOf))
		for i, o := range f.OneOf {
			list[i] = o.schema()
		}
		s["anyOf"] = list
	}
	return s
}
