//go:build linux

package windows

import (
	"testing"

	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/windowstest"
)

// BenchmarkSurvey surveys a machine of 400 services, each with a program of its
// own.
func BenchmarkSurvey(b *testing.B) {
	d := windowstest.New()
	for i := range 400 {
		name := "svc" + string(rune('a'+i%26)) + string(rune('a'+i/26))
		d.Files["Program Files/"+name+"/a.exe"] = made("Maker of "+name, "Says")
		d.Service(name, windowstest.Auto(`"C:\Program Files\`+name+`\a.exe"`)...)
	}
	r, err := machine.Open(d.Make(b))
	if err != nil {
		b.Fatal(err)
	}
	defer r.Close()
	for b.Loop() {
		if found := (Family{}).Open(r).Survey(family.Options{}).Found(); len(found.Items) < 400 {
			b.Fatal(len(found.Items))
		}
	}
}
