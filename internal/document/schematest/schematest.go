// Package schematest holds documents against docs/schema. It is for tests only.
package schematest

import (
	"bytes"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Check fails the test where a document does not follow the schema of a name
// such as "list-1". A field that the schema does not know is an error too.
func Check(t testing.TB, schema string, document []byte) {
	t.Helper()
	_, here, _, _ := runtime.Caller(0)
	file := filepath.Join(filepath.Dir(here), "../../../docs/schema", schema+".json")
	compiled, err := jsonschema.NewCompiler().Compile(file)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(document))
	if err == nil {
		err = compiled.Validate(value)
	}
	if err != nil {
		t.Errorf("%s: %v", schema, err)
	}
}
