package api

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/google/jsonschema-go/jsonschema"

	"openbastion/internal/classroom/class"
	"openbastion/internal/classroom/evidence"
	"openbastion/internal/diagnose"
	"openbastion/internal/model/plan"
	"openbastion/internal/model/status"
	"openbastion/internal/simulator"
	"openbastion/internal/verify/claims"
	"openbastion/internal/verify/reachability"
	"openbastion/internal/verify/verdict"
)

// documents are all documents by their schema's name, with their types.
func documents() map[string]reflect.Type {
	return map[string]reflect.Type{
		AppliedSchema: reflect.TypeFor[Applied](),
		ChangesSchema: reflect.TypeFor[Changes](), ComparisonSchema: reflect.TypeFor[Comparison](), DemoSchema: reflect.TypeFor[Demo](),
		DigestsSchema: reflect.TypeFor[Digests](), DisplaySchema: reflect.TypeFor[Display](), DoneSchema: reflect.TypeFor[Done](),
		DryRunSchema: reflect.TypeFor[DryRun](), FaultSchema: reflect.TypeFor[Fault](), FaultsSchema: reflect.TypeFor[Faults](),
		FindingsSchema: reflect.TypeFor[Findings](), GradesSchema: reflect.TypeFor[Grades](), ImagesSchema: reflect.TypeFor[Images](),
		MapSchema: reflect.TypeFor[Map](), MatrixSchema: reflect.TypeFor[Matrix](), NeedsSchema: reflect.TypeFor[Needs](),
		PassagesSchema: reflect.TypeFor[Passages](), PassesSchema: reflect.TypeFor[Passes](), PlacementSchema: reflect.TypeFor[Placement](),
		ComparisonsSchema: reflect.TypeFor[Comparisons](),
		RepairSchema:      reflect.TypeFor[Repair](),
		ProfileSchema:     reflect.TypeFor[Profile](), ProfilesSchema: reflect.TypeFor[Profiles](), ScreenSchema: reflect.TypeFor[Screen](),
		SnapshotsSchema: reflect.TypeFor[Snapshots](), StartedSchema: reflect.TypeFor[Started](), StoppedSchema: reflect.TypeFor[Stopped](),
		SurveySchema: reflect.TypeFor[Survey](), SymptomsSchema: reflect.TypeFor[Symptoms](), UnpackedSchema: reflect.TypeFor[Unpacked](),
		VersionSchema: reflect.TypeFor[Version](), WordsSchema: reflect.TypeFor[Words](),
		reachability.Schema: reflect.TypeFor[Proof](), verdict.Schema: reflect.TypeFor[Joined](), plan.Schema: reflect.TypeFor[plan.Document](),
		status.Schema:      reflect.TypeFor[status.Lab](),
		class.StatusSchema: reflect.TypeFor[class.Status](), class.VerdictSchema: reflect.TypeFor[class.Verdict](),
		simulator.TraceSchema: reflect.TypeFor[simulator.Trace](), diagnose.Schema: reflect.TypeFor[diagnose.Document](),
		claims.AnswersSchema: reflect.TypeFor[claims.Answers](), evidence.SignedSchema: reflect.TypeFor[evidence.Signed](),
	}
}

// short returns the name by which a document is asked for: openbastion.plan/1 is plan.
func short(schema string) string {
	return strings.TrimSuffix(strings.TrimPrefix(schema, "openbastion."), "/1")
}

// Names returns the short names of all documents, in order.
func Names() []string {
	var out []string
	for name := range documents() {
		out = append(out, short(name))
	}
	slices.Sort(out)
	return out
}

// Schema returns the JSON Schema of a document by its short name.
func Schema(name string) ([]byte, error) {
	s, err := schemaOf("openbastion." + name + "/1")
	if err != nil {
		return nil, err
	}
	return json.MarshalIndent(s, "", "  ")
}

func schemaOf(name string) (*jsonschema.Schema, error) {
	t, ok := documents()[name]
	if !ok {
		return nil, fmt.Errorf("no document %q; known: %s", short(name), strings.Join(Names(), ", "))
	}
	f := finder{known: map[reflect.Type]*jsonschema.Schema{}, seen: map[reflect.Type]int{}}
	f.find(t)
	o := &jsonschema.ForOptions{TypeSchemas: f.known}
	s, err := jsonschema.ForType(t, o)
	if err != nil {
		return nil, fmt.Errorf("the schema of %s: %w", name, err)
	}
	for _, t := range f.cyclic {
		var fields []reflect.StructField
		for _, x := range reflect.VisibleFields(t) {
			if x.IsExported() && len(x.Index) == 1 {
				fields = append(fields, x)
			}
		}
		if s.Defs == nil {
			s.Defs = map[string]*jsonschema.Schema{}
		}
		if s.Defs[t.Name()], err = jsonschema.ForType(reflect.StructOf(fields), o); err != nil {
			return nil, fmt.Errorf("the schema of %s in %s: %w", t, name, err)
		}
	}
	s.Schema, s.Title = "https://json-schema.org/draft/2020-12/schema", name
	if p := s.Properties["schema"]; p != nil {
		var is any = name
		p.Const = &is
	}
	if name == verdict.Schema { // the same document on evidence says more
		s.Required = slices.DeleteFunc(s.Required, func(key string) bool {
			return slices.Contains([]string{"bench", "guests", "silent", "remarks"}, key)
		})
	}
	return s, nil
}

// finder finds the types whose schemas cannot be had from their fields: those that write
// themselves, as text or, where they do more, as anything; and those that hold themselves.
type finder struct {
	known  map[reflect.Type]*jsonschema.Schema
	seen   map[reflect.Type]int // 1: it is being looked into; 2: it was
	cyclic []reflect.Type
}

func (f *finder) find(t reflect.Type) {
	if f.seen[t] == 1 && !slices.Contains(f.cyclic, t) {
		f.cyclic = append(f.cyclic, t)
		f.known[t] = &jsonschema.Schema{Type: "object", Ref: "#/$defs/" + t.Name()}
	}
	if f.seen[t] > 0 {
		return
	}
	if t.Kind() == reflect.Struct {
		f.seen[t] = 1
		defer func() { f.seen[t] = 2 }()
	}
	switch {
	case t == raw, t.Implements(marshals), t.Kind() != reflect.Interface && reflect.PointerTo(t).Implements(marshals):
		f.known[t] = &jsonschema.Schema{}
		if strings.HasPrefix(t.String(), "netip.") || t.String() == "time.Time" {
			f.known[t] = &jsonschema.Schema{Type: "string"}
		}
		return
	case t.Implements(texts), t.Kind() != reflect.Interface && reflect.PointerTo(t).Implements(texts):
		f.known[t] = &jsonschema.Schema{Type: "string"}
		return
	}
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
		f.find(t.Elem())
	case reflect.Struct:
		for i := range t.NumField() {
			f.find(t.Field(i).Type)
		}
	case reflect.Interface:
		f.known[t] = &jsonschema.Schema{}
	}
}

// Validate reports how a document that was printed departs from its schema; nil when it does not.
func Validate(data []byte) error {
	var head struct {
		Schema string `json:"schema"`
	}
	if err := json.Unmarshal(data, &head); err != nil {
		return err
	}
	s, err := schemaOf(head.Schema)
	if err != nil {
		return err
	}
	r, err := s.Resolve(nil)
	if err != nil {
		return err
	}
	var doc any
	if err := json.Unmarshal(data, &doc); err != nil {
		return err
	}
	return r.Validate(doc)
}
