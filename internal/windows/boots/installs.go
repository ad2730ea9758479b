package boots

import (
	"calmdawn/internal/core/drift"
	"calmdawn/internal/windows/events"
	"calmdawn/internal/windows/registry"
)

const (
	applications = "Application.evtx"
	updates      = "Microsoft-Windows-WindowsUpdateClient"
	installer    = "MsiInstaller"
)

// Installs are what the logs tell of updates of the system and of packages that
// its installer put in or took away.
func Installs(reg *registry.Registry) (all []drift.Event) {
	r := &reader{reg: reg, want: func(provider string, id uint16) bool {
		return provider == updates && id == 19 ||
			provider == installer && (id == 1033 || id == 1034)
	}}
	nth := func(e events.Event, n int) string {
		if n >= len(e.Data) {
			return ""
		}
		return e.Data[n].Value.Text()
	}
	for _, e := range append(r.log(systemLog), r.log(applications)...) {
		one := drift.Event{At: e.Time, What: "upgraded", Package: e.Text("updateTitle")}
		if e.Provider == installer { // its data have no names: product, version
			one = drift.Event{
				At: e.Time, What: "installed", Package: nth(e, 0), Version: nth(e, 1),
			}
			if e.ID == 1034 {
				one.What = "removed"
			}
		}
		if one.Package != "" {
			all = append(all, one)
		}
	}
	return all
}
