// Size writes how large the program is, and which modules make it so, into
// docs/size.md. With -check it fails where the program has grown by more than
// two in a hundred over what stands there.
package main

import (
	"cmp"
	"debug/buildinfo"
	"debug/elf"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

const page = "docs/size.md"

func main() {
	check := flag.Bool("check", false, "compare with what "+page+" says")
	flag.Parse()
	if err := run(*check); err != nil {
		fmt.Fprintln(os.Stderr, "size:", err)
		os.Exit(1)
	}
}

var stated = regexp.MustCompile(`(?m)^The program has (\d+) bytes`)

func run(check bool) error {
	work, err := os.MkdirTemp("", "calmdawn-size-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	shipped, err := build(filepath.Join(work, "shipped"), "-s")
	if err != nil {
		return err
	}
	if check {
		text, err := os.ReadFile(page)
		if err != nil {
			return err
		}
		m := stated.FindSubmatch(text)
		if m == nil {
			return fmt.Errorf("%s does not say how many bytes the program has", page)
		}
		was, err := strconv.ParseInt(string(m[1]), 10, 64)
		if err == nil && shipped > was+was/50 {
			err = fmt.Errorf("the program has %d bytes, %s says %d; make it smaller, or call "+
				"make size and say in the commit what for", shipped, page, was)
		}
		return err
	}
	whole := filepath.Join(work, "whole")
	if _, err := build(whole, ""); err != nil {
		return err
	}
	sizes, err := modules(whole)
	if err != nil {
		return err
	}
	return os.WriteFile(page, []byte(table(shipped, sizes)), 0o644)
}

// build links the program for one target, and returns its size in bytes.
func build(to, flags string) (int64, error) {
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags="+flags, "-o", to,
		"./cmd/calmdawn")
	cmd.Env = append(os.Environ(), "GOOS=linux", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w\n%s", err, out)
	}
	info, err := os.Stat(to)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// modules is how many bytes of code and data each module brings, by the table
// of symbols.
func modules(program string) (map[string]uint64, error) {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, err
	}
	f, err := elf.Open(program)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	symbols, err := f.Symbols()
	if err != nil {
		return nil, err
	}
	sizes := map[string]uint64{}
	for _, s := range symbols {
		if elf.ST_TYPE(s.Info) != elf.STT_FUNC && elf.ST_TYPE(s.Info) != elf.STT_OBJECT ||
			int(s.Section) >= len(f.Sections) || f.Sections[s.Section].Type == elf.SHT_NOBITS {
			continue
		}
		of := "Go's library and tables"
		// the linker writes dots of a path's last name as %2e
		name := strings.ReplaceAll(strings.TrimPrefix(s.Name, "type:."), "%2e", ".")
		if strings.HasPrefix(name, "calmdawn/") {
			of = "Calm Dawn"
		}
		for _, m := range info.Deps {
			if strings.HasPrefix(name, m.Path+"/") || strings.HasPrefix(name, m.Path+".") {
				of = m.Path
			}
		}
		sizes[of] += s.Size
	}
	return sizes, nil
}

// table is the page: what is above five kilobytes by itself, the rest together.
func table(shipped int64, sizes map[string]uint64) string {
	const least = 5 << 10
	names := slices.SortedFunc(maps.Keys(sizes), func(a, b string) int {
		return cmp.Or(cmp.Compare(sizes[b], sizes[a]), strings.Compare(a, b))
	})
	var b strings.Builder
	fmt.Fprintf(&b, "# How large the program is\n\nThe program has %d bytes (linux/amd64). "+
		"`make size` writes this page, and `make check` fails\nwhere the program grows by more "+
		"than 2 %% over it.\n\n| module | kB of code and data |\n| --- | ---: |\n", shipped)
	rest, count := uint64(0), 0
	for _, name := range names {
		if sizes[name] < least {
			rest, count = rest+sizes[name], count+1
			continue
		}
		fmt.Fprintf(&b, "| %s | %d |\n", name, sizes[name]/1000)
	}
	fmt.Fprintf(&b, "| %d others | %d |\n", count, rest/1000)
	fmt.Fprint(&b, "\nThe rest of the file is the tables by which Go finds functions, and room "+
		"between parts.\n")
	return b.String()
}
