package windowstest

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/windows/hive"
)

// Registry is all that the hives of a disk hold, by file, key and name, read by
// the reader that edits none. It has values with type and data, keys with their
// times. Each hive has to be whole, and clean or behind what its logs hold.
func Registry(t testing.TB, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, p := range hivesOf(t, dir) {
		data, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		var logs [][]byte
		for _, end := range []string{".LOG1", ".LOG2"} {
			if log, err := os.ReadFile(p + end); err == nil {
				logs = append(logs, log)
			}
		}
		size := int64(len(data))
		file := hive.File(readOnly{strings.NewReader(string(data))})
		_, err = hive.Edit(file, size, logs...)
		if errors.Is(err, hive.ErrBehind) {
			var r *hive.Recovery
			if r, err = hive.Recover(file, size, logs...); err == nil {
				_, err = hive.Edit(r, r.Size(), logs...)
			}
		}
		if err != nil {
			t.Fatalf("%s: %v", p, err)
		}
		h, err := hive.Open(file, size, logs...)
		if err != nil {
			t.Fatalf("%s: %v", p, err)
		}
		walk(t, all, strings.TrimPrefix(p, dir), h.Root())
	}
	return all
}

// readOnly is a file that nothing is written to.
type readOnly struct{ *strings.Reader }

var errReadOnly = errors.New("it is only read")

func (readOnly) WriteAt([]byte, int64) (int, error) { return 0, errReadOnly }
func (readOnly) Sync() error                        { return errReadOnly }
func (readOnly) Reserve(int64) error                { return errReadOnly }

func walk(t testing.TB, all map[string]string, at string, k hive.Key) {
	all[at] = k.Written.String()
	values, err1 := k.Values()
	keys, err2 := k.Keys()
	if err := errors.Join(err1, err2); err != nil {
		t.Fatalf("%s: %v", at, err)
	}
	for _, v := range values {
		data, err := v.Data()
		if err != nil {
			t.Fatalf("%s %s: %v", at, v.Name, err)
		}
		all[at+`\\`+v.Name] = fmt.Sprintf("%d:%x", v.Type, data)
	}
	for _, sub := range keys {
		walk(t, all, at+`\`+sub.Name, sub)
	}
}

func hivesOf(t testing.TB, dir string) (all []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(p string, _ fs.DirEntry, err error) error {
		switch filepath.Base(p) {
		case "SYSTEM", "SOFTWARE", "NTUSER.DAT", "UsrClass.dat":
			all = append(all, p)
		}
		return err
	})
	if err != nil || len(all) == 0 {
		t.Fatal("no hives", err)
	}
	return all
}

// Differing are the values in which two registries differ, and the keys that
// only one of them has. times are those of keys that both have.
func Differing(a, b map[string]string) (values, times []string) {
	both := maps.Clone(a)
	maps.Copy(both, b)
	for _, at := range slices.Sorted(maps.Keys(both)) {
		before, inA := a[at]
		after, inB := b[at]
		switch {
		case before == after && inA == inB:
		case strings.Contains(at, `\\`) || inA != inB:
			values = append(values, at)
		default:
			times = append(times, at)
		}
	}
	return values, times
}

// Write gives a value of a hive's file a type and data, as somebody else would.
func Write(t testing.TB, file, key, name string, kind hive.Type, data []byte) {
	t.Helper()
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	e, err := hive.Edit(growing{f}, info.Size())
	if err != nil {
		t.Fatal(err)
	}
	k, err := e.Root().Key(strings.Split(key, `\`)...)
	if err == nil {
		err = e.Set(k, name, kind, data, -1, At)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// growing is a file that becomes as long as it has to.
type growing struct{ *os.File }

func (f growing) Reserve(size int64) error {
	info, err := f.Stat()
	if err != nil || info.Size() >= size {
		return err
	}
	return f.Truncate(size)
}

// Kill leaves a hive's file as a power cut does while a value of a key became
// another one. What is new stands in its logs, with some of it in the file. It
// returns the bytes of the file.
func Kill(t testing.TB, rng *rand.Rand, file, key, name string, kind hive.Type, data []byte,
) []byte {
	t.Helper()
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	Write(t, file, key, name, kind, data)
	after, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	killed, log1, log2 := write.Behind(rng, before, after)
	for end, data := range map[string][]byte{"": killed, ".LOG1": log1, ".LOG2": log2} {
		if err := os.WriteFile(file+end, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return killed
}

// Seal puts the sum of a hive's first page right.
func Seal(data []byte) {
	sum := uint32(0)
	for at := 0; at < 508; at += 4 {
		sum ^= binary.LittleEndian.Uint32(data[at:])
	}
	binary.LittleEndian.PutUint32(data[508:], sum)
}
