package document

import (
	"runtime"
	"runtime/debug"
)

// A Version is what --version prints: what the program was made from.
type Version struct {
	Format  string `json:"format"`
	Version string `json:"version"`           // (devel) where the build does not know it
	Commit  string `json:"commit,omitempty"`  // all digits of its name
	Date    string `json:"date,omitempty"`    // the commit's, RFC 3339
	Changed bool   `json:"changed,omitempty"` // the files were not as the commit has them
	Go      string `json:"go"`                // what compiled it
	Target  string `json:"target"`            // system/processor
}

// ThisVersion reads what the build wrote into the program that runs.
func ThisVersion() Version {
	v := Version{
		Format:  "calmdawn.version/1",
		Version: "(devel)",
		Go:      runtime.Version(),
		Target:  runtime.GOOS + "/" + runtime.GOARCH,
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	if info.Main.Version != "" {
		v.Version = info.Main.Version
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			v.Commit = s.Value
		case "vcs.time":
			v.Date = s.Value
		case "vcs.modified":
			v.Changed = s.Value == "true"
		}
	}
	return v
}
