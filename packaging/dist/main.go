// Dist makes the files of a release from a clean checkout: archives, packages,
// checksums and a bill of materials. Whoever makes them of the same commit with
// the same Go gets the same bytes.
package main

import (
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
	out := flag.String("o", "dist", "the `folder` to write to, in place of what stands there")
	only := flag.String("only", "", "only these `targets`, as linux/amd64,windows/amd64")
	source := flag.String("source", ".", "the checkout")
	flag.Parse()
	if err := release(*source, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "dist:", err)
		os.Exit(1)
	}
}

// sumsFile holds the checksums, in the form of sha256sum(1).
const sumsFile = "SHA256SUMS"

// A file of a release, at a path below its folder.
type file struct {
	path string
	data []byte
	mode os.FileMode
}

// release makes all files of the checkout in a folder.
func release(source, out, only string) error {
	c, err := lookAt(source)
	if err != nil {
		return err
	}
	chosen, err := choose(only)
	if err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "calmdawn-dist-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	shared, err := c.texts()
	if err != nil {
		return err
	}
	var made []file
	for _, t := range chosen {
		program, err := c.build(t, filepath.Join(work, "calmdawn"+t.suffix()))
		if err != nil {
			return fmt.Errorf("%s: %w", t, err)
		}
		notices, err := c.notices(program)
		if err != nil {
			return err
		}
		bill, err := c.bill(program, t)
		if err != nil {
			return err
		}
		files := append(slices.Clone(shared), notices,
			file{"calmdawn" + t.suffix(), program.data, 0o755})
		slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.path, b.path) })
		name := fmt.Sprintf("calmdawn-%s-%s-%s", program.version, t.system, t.processor)
		archive, err := pack(name, t, files, c.date)
		if err != nil {
			return err
		}
		made = append(made, archive, file{name + ".cdx.json", bill, 0o644})
		if t.system == "linux" {
			packages, err := c.packages(program, t, files)
			if err != nil {
				return err
			}
			made = append(made, packages...)
		}
	}
	return write(out, made, c.date)
}

// write puts the files and their checksums into a folder, in place of an
// earlier release there. A folder of anything else is refused.
func write(out string, made []file, date time.Time) error {
	there, err := os.ReadDir(out)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(there) > 0 && !slices.ContainsFunc(there, func(e fs.DirEntry) bool {
		return e.Name() == sumsFile
	}) {
		return fmt.Errorf("%s holds something, and no release; give another folder", out)
	}
	if err := os.RemoveAll(out); err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	slices.SortFunc(made, func(a, b file) int { return strings.Compare(a.path, b.path) })
	var sums strings.Builder
	for _, f := range made {
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(f.data), f.path)
	}
	for _, f := range append(made, file{sumsFile, []byte(sums.String()), 0o644}) {
		p := filepath.Join(out, f.path)
		if err := os.WriteFile(p, f.data, f.mode); err != nil {
			return err
		}
		if err := os.Chtimes(p, date, date); err != nil {
			return err
		}
		fmt.Printf("%10d  %s\n", len(f.data), p)
	}
	return nil
}
