package main

import (
	"bytes"
	"time"

	"github.com/CycloneDX/cyclonedx-go"
)

// bill is what a program consists of, in the form of CycloneDX (ECMA-424).
func (c *checkout) bill(p *program, t target) ([]byte, error) {
	b := cyclonedx.NewBOM()
	b.Metadata = &cyclonedx.Metadata{
		Timestamp: c.date.Format(time.RFC3339),
		Component: &cyclonedx.Component{
			BOMRef: "calmdawn", Type: cyclonedx.ComponentTypeApplication, Name: "calmdawn",
			Version:    p.version,
			Properties: &[]cyclonedx.Property{{Name: "target", Value: t.String()}},
		},
	}
	all := []cyclonedx.Component{{
		BOMRef: "pkg:golang/std@" + p.info.GoVersion[2:], Type: cyclonedx.ComponentTypeLibrary,
		Name: "std", Version: p.info.GoVersion,
		PackageURL: "pkg:golang/std@" + p.info.GoVersion[2:],
	}}
	for _, m := range p.info.Deps {
		if m.Replace != nil && m.Replace.Sum == "" {
			continue // a folder of ours
		}
		url := "pkg:golang/" + m.Path + "@" + m.Version
		all = append(all, cyclonedx.Component{
			BOMRef: url, Type: cyclonedx.ComponentTypeLibrary, Name: m.Path, Version: m.Version,
			PackageURL: url,
		})
	}
	b.Components = &all
	var text bytes.Buffer
	e := cyclonedx.NewBOMEncoder(&text, cyclonedx.BOMFileFormatJSON)
	e.SetPretty(true)
	err := e.Encode(b)
	return text.Bytes(), err
}
