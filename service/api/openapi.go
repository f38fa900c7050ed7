package api

import (
	"fmt"
	"net/http"
	"path"
	"reflect"
	"regexp"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"plumlatch/core/wire"
	"plumlatch/service/store"
)

// document is the OpenAPI document, made when it is asked for the first time.
type document struct {
	once sync.Once
	text []byte
	err  error
}

var parameter = regexp.MustCompile(`:([a-z]+)`)

// OpenAPI is the table as an OpenAPI 3.1 document, with the schemas of wire's types.
func OpenAPI() ([]byte, error) {
	r := openapi31.NewReflector()
	r.Spec.Info.WithTitle("Plum Latch").WithVersion("1").WithDescription("Every call of the API, made from the " +
		"table that its routes are made of. A call that fails is answered with a problem document (RFC 9457), " +
		"whose type is a path that explains it.")
	r.Spec.SetHTTPBearerTokenSecurity("token", "", "An operator's token: plumlatch token create")
	r.DefaultOptions = append(r.DefaultOptions, jsonschema.InterceptDefName(definition),
		jsonschema.InterceptProp(required), jsonschema.InterceptNullability(neverNull))
	for _, o := range Operations() {
		op, err := r.NewOperationContext(o.Method, "/api/v1"+parameter.ReplaceAllString(o.Path, "{$1}"))
		if err != nil {
			return nil, err
		}
		op.SetID(strings.ToLower(o.Method) + strings.NewReplacer("/", "-", ":", "").Replace(o.Path))
		op.SetSummary(o.About)
		op.AddReqStructure(reflect.New(parameters(o)).Interface())
		if o.In != nil {
			op.AddReqStructure(o.In)
		}
		op.AddRespStructure(o.Out, openapi.WithHTTPStatus(success))
		op.AddRespStructure(wire.Problem{}, func(cu *openapi.ContentUnit) {
			cu.IsDefault, cu.ContentType, cu.Description = true, "application/problem+json", "what went wrong"
		})
		if o.Role != "" {
			op.AddSecurity("token")
			op.SetDescription(need(o.Role))
		}
		if err := r.AddOperation(op); err != nil {
			return nil, fmt.Errorf("%s %s: %w", o.Method, o.Path, err)
		}
	}
	return r.Spec.MarshalJSON()
}

func need(role store.Role) string { return "For whoever is " + string(role) + " or more." }

// success stands for every status of an answer that is no problem, 2XX.
const success = 2

// parameters is a type with the parameters of a call's path and query.
func parameters(o Operation) reflect.Type {
	var fields []reflect.StructField
	add := func(name, in string, t reflect.Type) {
		fields = append(fields, reflect.StructField{Name: fmt.Sprintf("P%d", len(fields)), Type: t,
			Tag: reflect.StructTag(fmt.Sprintf(`%s:"%s"`, in, name))})
	}
	for _, p := range parameter.FindAllStringSubmatch(o.Path, -1) {
		t := reflect.TypeFor[string]()
		if p[1] == "id" {
			t = reflect.TypeFor[int64]()
		}
		add(p[1], "path", t)
	}
	for _, q := range strings.Fields(queries[o.Method+" "+o.Path]) {
		add(q, "query", reflect.TypeFor[string]())
	}
	return reflect.StructOf(fields)
}

// definition names the schema of a type: as the type, and ListOfX for a page of them. Those
// that are not of package wire have their package before their name.
func definition(t reflect.Type, _ string) string {
	name := t.Name()
	if of, ok := strings.CutPrefix(name, "List["); ok {
		of = strings.TrimSuffix(of, "]")
		return "ListOf" + of[strings.LastIndexByte(of, '.')+1:]
	}
	name = strings.ToUpper(name[:1]) + name[1:]
	if pkg := path.Base(t.PkgPath()); pkg != "wire" && pkg != "api" {
		name = strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

// required: a field that is not left out when it is empty is always there.
func required(p jsonschema.InterceptPropParams) error {
	if !p.Processed {
		return nil
	}
	tag := p.Field.Tag.Get("json")
	if tag != "" && !strings.Contains(tag, "omitempty") && !strings.Contains(tag, "omitzero") {
		p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
	}
	return nil
}

// neverNull: what is not there is left out, and a list without items is [].
func neverNull(p jsonschema.InterceptNullabilityParams) { p.Schema.RemoveType(jsonschema.Null) }

func (s *Server) openAPI(c *gin.Context) {
	s.document.once.Do(func() { s.document.text, s.document.err = OpenAPI() })
	text, err := s.document.text, s.document.err
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json", text)
}
