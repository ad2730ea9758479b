//go:build linux

package windows

import (
	"fmt"
	"strings"
	"testing"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/family"
	"calmdawn/internal/machine"
	"calmdawn/internal/testtree"
	"calmdawn/internal/windows/hive"
	"calmdawn/internal/windows/windowstest"
)

// TestTwiceAsBrokenTakesTwiceAsMuch surveys disks with n and with 2n faults of
// each kind, and counts what is allocated: none is told of all the others anew.
func TestTwiceAsBrokenTakesTwiceAsMuch(t *testing.T) {
	each := func(n int, do func(name string)) {
		for i := range n {
			do(fmt.Sprintf("n%05d", i))
		}
	}
	for name, spoil := range map[string]func(d *windowstest.Disk, n int){
		"entries": func(d *windowstest.Disk, n int) {
			each(n, func(name string) {
				d.Run("isolde", "Run").Set(write.Texted(name, hive.String, `"C:\gone\`+name))
			})
		},
		"entries of no text": func(d *windowstest.Disk, n int) {
			each(n, func(name string) { d.Run("", "Run").Set(write.Counted(name, 7)) })
		},
		"services": func(d *windowstest.Disk, n int) {
			each(n, func(name string) {
				d.Service(name, write.Counted("Type", 0x10),
					write.Texted("Start", hive.String, "x"), write.Counted("ImagePath", 1))
			})
		},
		"needs in circles": func(d *windowstest.Disk, n int) {
			last := "n00000"
			each(n, func(name string) {
				d.Service(name, windowstest.Auto(`C:\gone.exe`)...).Set(
					write.Texted("DependOnService", hive.Multi, last+"\x00"))
				last = name
			})
		},
		"tasks": func(d *windowstest.Disk, n int) {
			each(n, func(name string) {
				d.Files["Windows/System32/Tasks/"+name] = "<Task"
				d.Software.At(taskTree + `Tree\` + name).Set(text("Id", "{"+name+"}"))
			})
		},
		"actions of a task": func(d *windowstest.Disk, n int) {
			d.Files["Windows/System32/Tasks/a"] = define("<BootTrigger/>", "",
				strings.Repeat("<Exec><Command>C:\\gone</Command></Exec>", n))
			d.Software.At(taskTree + `Tree\a`).Set(text("Id", "{a}"))
		},
		"shortcuts": func(d *windowstest.Disk, n int) {
			each(n, func(name string) {
				d.Files["ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp/"+name+
					".lnk"] = "L\x00\x00\x00"
			})
		},
		"profiles": func(d *windowstest.Disk, n int) {
			each(n, func(name string) { d.Profile("S-1-5-21-1-2-3-"+name, `D:\`+name) })
		},
	} {
		t.Run(name, func(t *testing.T) {
			testtree.Twice(t, 400, func(n int) func() int {
				d := windowstest.New()
				spoil(d, n)
				r, err := machine.Open(d.Make(t))
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { r.Close() })
				return func() int {
					return len(Family{}.Open(r).Survey(family.Options{}).Found().Unread)
				}
			})
		})
	}
}
