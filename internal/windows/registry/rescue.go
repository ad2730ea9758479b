package registry

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
)

// Rescue returns what takes edits back in the recovery console of Windows. That
// is for each hive a file for import, and what stood in files that were taken
// away. A text says in which order. Hives are mounted there under one name,
// OFF.
func (s *Store) Rescue(edits []change.Edit, at func(name string) string) map[string][]byte {
	files := map[string][]byte{}
	var hives, lines []string
	of := map[string][]change.Edit{}
	for _, e := range edits {
		switch {
		case change.Scheme(e.Path) == Scheme:
			key, _, _ := parse(e.Path)
			hive, _, err := s.hiveOf(key)
			if err != nil {
				continue
			}
			if of[hive] == nil {
				hives = append(hives, hive)
			}
			of[hive] = append(of[hive], e)
		case strings.IndexFunc(e.Path, unicode.IsControl) >= 0:
		case e.Before.Kind == change.Absent:
			lines = append(lines, "del "+onDisk(e.Path))
		case e.Before.Kind == change.File && e.Before.Sum == nil:
			name := fmt.Sprintf("%sfile-%d", machine.RescueFile, len(files)+1)
			files[name] = e.Before.Data
			lines = append(lines, "copy /y "+beside(at(name))+" "+onDisk(e.Path))
		}
	}
	slices.Sort(hives)
	for n, hive := range hives {
		name := fmt.Sprintf("%s%d-%s.reg", machine.RescueFile, n+1, safe(path.Base(hive)))
		files[name] = importFile([]string{
			"What calmdawn changed in " + onDisk(hive) + ", taken back; OFF is that hive.",
		}, of[hive], func(key string) (string, bool) {
			_, names, err := s.hiveOf(key)
			return strings.Join(append([]string{`HKEY_LOCAL_MACHINE\OFF`}, names...), `\`),
				err == nil
		})
		lines = append(lines, `reg load HKLM\OFF `+onDisk(hive), "reg import "+beside(at(name)),
			`reg unload HKLM\OFF`)
	}
	if len(lines) == 0 {
		return nil
	}
	text := strings.ReplaceAll(rescueText(lines, at(machine.RescueText)), "\n", "\r\n")
	files[machine.RescueText] = []byte("\uFEFF" + text)
	return files
}

// rescueText says what to do, in lines that a telephone shows. The first line
// that is typed has to be seen without a search.
func rescueText(lines []string, self string) string {
	undo, stick := "calmdawn --root FOLDER undo --all", ""
	if !strings.HasPrefix(self, "/") {
		undo = "calmdawn --root FOLDER --casebook FILE undo --all"
		stick = "E: below is the stick with these files on it.\n"
	}
	return `When Windows no longer starts
=============================

1. With calmdawn on a rescue stick, if you have one:

` + undo + `

FOLDER is where the disk is mounted.

2. Else in the recovery console of Windows:
Troubleshoot, Advanced options, Command Prompt.

Which letter has the disk there? Try
dir C:\Windows, dir D:\Windows, and so on.
D: below stands for it.
` + stick + `
An encrypted disk first:
manage-bde -unlock D: -recoverypassword KEY

Then, line by line:

` + strings.Join(lines, "\n") + `

Close the window and choose Continue.
`
}

// onDisk is a path of the machine as one types it where the disk is D:.
func onDisk(p string) string { return `"D:` + strings.ReplaceAll(p, "/", `\`) + `"` }

// beside is the same for a file of ours, which may stand on a stick.
func beside(p string) string {
	if strings.HasPrefix(p, "/") {
		return onDisk(p)
	}
	return `"E:\` + p + `"`
}

// safe is a name with letters, digits and dots alone.
func safe(name string) string {
	return strings.Map(func(r rune) rune {
		if r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r) || r == '.') {
			return r
		}
		return '-'
	}, name)
}
