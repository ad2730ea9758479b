package hive

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
)

var at = time.Date(2026, 11, 25, 8, 4, 5, 600, time.UTC)

// sample has every record there is, and what is unusual in healthy hives.
func sample() *write.Key {
	root := &write.Key{Name: "ROOT"}
	run := root.At(`Microsoft\Run`)
	root.At("Microsoft").Class = "Shell"
	run.Set(
		write.Texted("Plain", String, `"C:\Program Files\A B\a.exe" /x`),
		write.Texted("", String, "default"),
		write.Texted("Exp", Expand, `%ProgramFiles%\b.exe`), write.Texted("Größe", String, "c"),
		write.Texted("日本", String, "𝄞"), write.Raw("NoNul", String, wide(`C:\e`)),
		write.Raw("Odd", String, []byte{0x43, 0, 0}), write.Counted("Dw", 2),
		write.Raw("Dw2", DWord, []byte{2, 0}), write.Raw("Empty", Binary, nil),
		write.Raw("Q", QWord, []byte{1, 0, 0, 0, 0, 0, 0, 0}), write.Listed("Multi", "a", "b"),
		write.Raw("Unended", Multi, wide("a\x00b")),
		write.Raw("Weird", Type(0xFFFF0012), []byte{0, 17, 34, 51, 68}),
		write.Raw("Big", Binary, bytes.Repeat([]byte{0x5a}, 40000)),
		write.Raw("Edge", Binary, bytes.Repeat([]byte{0xa5}, segment)),
		write.Raw("Edge1", Binary, bytes.Repeat([]byte{0xa6}, segment+1)),
	)
	for i := range 1700 {
		root.At(fmt.Sprintf(`Many\K%05d`, i))
	}
	for _, kind := range []string{"li", "lf", "lh", "ri"} {
		n := root.At("List " + kind)
		n.List = kind
		for _, name := range []string{"a", "B", "_c", "abcd", "abcde", "ÿ", "µ", "ı", "Größe"} {
			n.At(name)
		}
	}
	root.At("日本語").Written = at.Add(-time.Hour)
	return root
}

func open(t testing.TB, data []byte, logs ...[]byte) *Hive {
	t.Helper()
	h, err := Open(bytes.NewReader(data), int64(len(data)), logs...)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

// A told key is one with all below it, as this package and others tell it.
type told struct {
	Path    string
	Written uint64
	Values  []string
}

// tell walks a key and what is below it.
func tell(t testing.TB, k Key, path string, all *[]told) {
	t.Helper()
	values, err := k.Values()
	if err != nil {
		t.Errorf("%s: %v", path, err)
	}
	one := told{Path: path, Written: Filetime(k.Written)}
	for _, v := range values {
		data, err := v.Data()
		if err != nil {
			t.Errorf("%s %q: %v", path, v.Name, err)
		}
		one.Values = append(one.Values, fmt.Sprintf("%s %d %x", v.Name, v.Type, data))
	}
	slices.Sort(one.Values)
	*all = append(*all, one)
	keys, err := k.Keys()
	if err != nil {
		t.Errorf("%s: %v", path, err)
	}
	for _, sub := range keys {
		tell(t, sub, path+`\`+sub.Name, all)
	}
}

// asBuilt is what a node tells.
func asBuilt(n *write.Key, path string, all *[]told) {
	written := at
	if !n.Written.IsZero() {
		written = n.Written
	}
	one := told{Path: path, Written: Filetime(written)}
	for _, v := range n.Values {
		one.Values = append(one.Values, fmt.Sprintf("%s %d %x", v.Name, v.Type, v.Data))
	}
	slices.Sort(one.Values)
	*all = append(*all, one)
	for _, k := range n.Keys {
		asBuilt(k, path+`\`+k.Name, all)
	}
}

func sorted(all []told) []told {
	slices.SortFunc(all, func(a, b told) int { return strings.Compare(a.Path, b.Path) })
	return all
}

func sameTold(t *testing.T, what string, got, want []told) {
	t.Helper()
	got, want = sorted(got), sorted(want)
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || fmt.Sprint(got[i]) != fmt.Sprint(want[i]) {
			t.Fatalf("%s: key %d of %d and %d differs: %.300v\n%.300v", what, i, len(got),
				len(want), got[min(i, len(got)-1)], want[min(i, len(want)-1)])
		}
	}
}

func TestAllThatIsBuiltIsRead(t *testing.T) {
	var want []told
	asBuilt(sample(), "", &want)
	for minor := uint32(3); minor <= 6; minor++ {
		h := open(t, write.Hive(sample(), minor, `\Config\SOFTWARE`, at))
		var got []told
		tell(t, h.Root(), "", &got)
		sameTold(t, fmt.Sprint("version ", minor), got, want)
		if len(h.Notes) > 0 || h.Behind {
			t.Error(h.Notes)
		}
	}
}

// TestLookups asks for keys and values in any case, and for what they mean.
func TestLookups(t *testing.T) {
	h := open(t, write.Hive(sample(), 5, "SOFTWARE", at))
	run, err := h.Root().Key("microsoft", "RUN")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, want string }{
		{"plain", `"C:\Program Files\A B\a.exe" /x`}, {"", "default"}, {"GRÖSSE", "none"},
		{"GRÖßE", "c"}, {"日本", "𝄞"}, {"NoNul", `C:\e`}, {"Odd", "C"}, {"Dw", "no text"},
	} {
		v, err := run.Value(c.name)
		text, ok := v.Text()
		switch {
		case errors.Is(err, ErrNone):
			text = "none"
		case !ok:
			text = "no text"
		}
		if text != c.want {
			t.Errorf("%q is %q, %v; want %q", c.name, text, err, c.want)
		}
	}
	for name, want := range map[string]uint64{"Dw": 2, "Q": 1} {
		v, _ := run.Value(name)
		if n, ok := v.Number(); !ok || n != want {
			t.Errorf("%s is %d, %v", name, n, ok)
		}
	}
	if v, _ := run.Value("Dw2"); v.Size != 2 {
		t.Errorf("%+v", v)
	} else if n, ok := v.Number(); ok {
		t.Errorf("two bytes are the number %d", n)
	}
	for _, name := range []string{"Multi", "Unended"} {
		v, _ := run.Value(name)
		if all, ok := v.Texts(); !ok || fmt.Sprint(all) != "[a b]" {
			t.Errorf("%s: %q", name, all)
		}
	}
	for _, path := range [][]string{{"list LH", "GRÖßE"}, {"List ri", "Ÿ"}, {"List li", "b"},
		{"Many", "k01699"}} {
		if _, err := h.Root().Key(path...); err != nil {
			t.Errorf("%q: %v", path, err)
		}
	}
	if _, err := h.Root().Key("List lf", "nothing"); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
	k, _ := h.Root().Key("Microsoft")
	if k.Class() != "Shell" || !k.Written.Equal(at.Truncate(100)) {
		t.Errorf("%q %v", k.Class(), k.Written)
	}
}

// foreign has libhivex tell a hive, with a bound of its memory.
const foreign = `
import hivex, json, sys
h = hivex.Hivex(sys.argv[1])
out, todo = [], [(h.root(), "")]
while todo:
    node, where = todo.pop()
    values = ["%s %d %s" % (h.value_key(v), h.value_value(v)[0], h.value_value(v)[1].hex())
              for v in h.node_values(node)]
    out.append({"Path": where, "Written": h.node_timestamp(node), "Values": sorted(values)})
    todo += [(c, where + "\\" + h.node_name(c)) for c in h.node_children(node)]
json.dump(out, sys.stdout)
`

const foreignWrites = `
import hivex, sys
h = hivex.Hivex(sys.argv[1], write=True)
for i in range(40):
    k = h.node_add_child(h.root(), "made %d" % i)
    h.node_set_values(k, [{"key": "v%d" % j, "t": 3, "value": b"x" * (j * j * 9)}
                          for j in range(20)])
for k in h.node_children(h.root()):
    if h.node_name(k) in ("made 3", "List lf"):
        h.node_delete_child(k)
h.commit(sys.argv[1])
`

func python(t *testing.T, script string, args ...string) []byte {
	t.Helper()
	const bounded = `ulimit -v 1000000; exec /usr/bin/python3 -c "$0" "$@"`
	cmd := exec.Command("sh", append([]string{"-c", bounded, script}, args...)...)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		if strings.Contains(errs.String(), "No module named 'hivex'") && os.Getenv("CI") == "" {
			t.Skip("python3-hivex is not installed")
		}
		t.Fatalf("%v %s", err, errs.String())
	}
	return out
}

// TestAForeignReaderAgrees holds hives of ours, and ones that libhivex wrote
// in, against what that reads.
func TestAForeignReaderAgrees(t *testing.T) {
	for minor := uint32(3); minor <= 5; minor++ {
		file := filepath.Join(t.TempDir(), "hive")
		hive := write.Hive(sample(), minor, "SOFTWARE", at)
		if err := os.WriteFile(file, hive, 0o600); err != nil {
			t.Fatal(err)
		}
		for _, what := range []string{"ours", "theirs"} {
			if what == "theirs" {
				python(t, foreignWrites, file)
			}
			var want, got []told
			if err := json.Unmarshal(python(t, foreign, file), &want); err != nil {
				t.Fatal(err)
			}
			data, _ := os.ReadFile(file)
			tell(t, open(t, data).Root(), "", &got)
			// of one byte more than a part it returns one byte less
			shorter := func(v string) bool { return strings.HasPrefix(v, "Edge1 ") }
			for i := range got {
				got[i].Values = slices.DeleteFunc(append([]string{}, got[i].Values...), shorter)
			}
			for i := range want {
				want[i].Values = slices.DeleteFunc(want[i].Values, shorter)
			}
			sameTold(t, fmt.Sprintf("%s, version %d", what, minor), got, want)
		}
	}
}

// logged returns the bins of one hive with what makes them another's in a log
// of entries, one for each half.
func logged(before, after []byte) (hive, log []byte) {
	hive = slices.Clone(before)
	binary.LittleEndian.PutUint32(hive[4:], 2)
	binary.LittleEndian.PutUint32(hive[508:], checksum(hive))
	var entries []write.LogEntry
	var pages []int
	for i := headSize; i < len(after); i += 4096 {
		if i >= len(before) || !bytes.Equal(before[i:i+4096], after[i:i+4096]) {
			pages = append(pages, i)
		}
	}
	for n, part := range [][]int{pages[:len(pages)/2], pages[len(pages)/2:]} {
		e := write.LogEntry{
			Sequence: uint32(1 + n), Bins: uint32(len(after) - headSize), Pages: map[int64][]byte{},
		}
		for _, at := range part {
			e.Pages[int64(at-headSize)] = after[at : at+4096]
		}
		entries = append(entries, e)
	}
	log = write.Log(after, entries...)
	return hive, log
}

// changed is the sample with a value changed, one more, and a bin more.
func changed() *write.Key {
	n := sample()
	n.At(`Microsoft\Run`).Set(write.Texted("Plain", String, "other"))
	n.At("New").Set(write.Raw("Much", Binary, bytes.Repeat([]byte{1}, 9000)))
	return n
}

func TestLogs(t *testing.T) {
	before := write.Hive(sample(), 5, "SOFTWARE", at)
	after := write.Hive(changed(), 5, "SOFTWARE", at)
	hive, log := logged(before, after)
	second := 512 + int(binary.LittleEndian.Uint32(log[516:]))
	damage := func(data []byte, at int) []byte {
		data = slices.Clone(data)
		data[at] ^= 1
		return data
	}
	old := make([]byte, 0, len(log))
	old = append(old, after[:512]...)
	binary.LittleEndian.PutUint32(old[28:], 1)
	binary.LittleEndian.PutUint32(old[508:], checksum(old))
	bits, sectors := make([]byte, (len(after)-headSize)/512/8), []byte{}
	for i := headSize; i < len(after); i += 512 {
		if i >= len(before) || !bytes.Equal(before[i:i+512], after[i:i+512]) {
			n := (i - headSize) / 512
			bits[n/8] |= 1 << (n % 8)
			sectors = append(sectors, after[i:i+512]...)
		}
	}
	old = append(append(old, "DIRT"...), bits...)
	old = append(append(old, make([]byte, -len(old)&511)...), sectors...)
	for _, c := range []struct {
		name  string
		hive  []byte
		logs  [][]byte
		plain string // what the value is
		note  string
	}{
		{"whole", hive, [][]byte{log}, "other", "hold newer changes (2)"},
		{"in two files", hive, [][]byte{append(log[:512:512], log[second:]...), log[:second]},
			"other", "hold newer changes (2)"},
		{"the second torn", hive, [][]byte{damage(log, len(log)-1)}, "",
			"newer changes in its logs (1) are damaged"},
		{"the first torn", hive, [][]byte{damage(log, 600)}, `"C:\Program Files\A B\a.exe" /x`,
			"damaged"},
		{"no log", hive, nil, `"C:\Program Files\A B\a.exe" /x`, "no log holds the rest"},
		{"a clean hive beside a log", before, [][]byte{log}, `"C:\Program Files\A B\a.exe" /x`, ""},
		{"the first page damaged", damage(hive, 100), [][]byte{log}, "other", "newer changes (2)"},
		{"an old log", hive, [][]byte{old}, "other", "its log holds newer changes"},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := open(t, c.hive, c.logs...)
			if run, err := h.Root().Key("Microsoft", "Run"); err == nil && c.plain != "" {
				v, _ := run.Value("Plain")
				if text, _ := v.Text(); text != c.plain {
					t.Errorf("it is %q", text)
				}
			}
			notes := strings.Join(h.Notes, "; ")
			if !strings.Contains(notes, c.note) || c.note == "" && (notes != "" || h.Behind) {
				t.Errorf("notes %q", notes)
			}
			if c.plain == "other" {
				var got, want []told
				tell(t, h.Root(), "", &got)
				asBuilt(changed(), "", &want)
				sameTold(t, c.name, got, want)
			}
		})
	}
	if _, err := Open(bytes.NewReader(damage(hive, 100)), int64(len(hive))); err == nil {
		t.Error("a hive with a damaged first page and no log was opened")
	}
}

// walk goes through all of a hive as far as it can be read, within bounds.
func walk(h *Hive) (keys int) {
	seen := map[uint32]bool{}
	todo := []Key{h.Root()}
	for len(todo) > 0 && keys < 2000 {
		k := todo[0]
		todo = todo[1:]
		if seen[k.at] {
			continue
		}
		seen[k.at] = true
		keys++
		_ = k.Class()
		_, _ = k.Key("run")
		values, _ := k.Values()
		for _, v := range values[:min(len(values), 100)] {
			_, _ = v.Texts()
			_, _ = v.Number()
		}
		subs, _ := k.Keys()
		todo = append(todo, subs...)
	}
	return keys
}

// TestDamageIsBounded changes bytes of a hive at random: what is read stays
// within bounds, and what is whole is still there.
func TestDamageIsBounded(t *testing.T) {
	small := &write.Key{Name: "ROOT"}
	for i := range 40 {
		small.At(fmt.Sprintf(`A\B%d\C`, i)).Set(write.Texted("run", String, "x"),
			write.Listed("m", "a"))
	}
	whole := write.Hive(small, 5, "SYSTEM", at)
	rng := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		data := slices.Clone(whole)
		for range 1 + rng.IntN(4) {
			place := headSize + rng.IntN(len(data)-headSize)
			data[place] = byte(rng.Uint32())
		}
		if h, err := Open(bytes.NewReader(data), int64(len(data))); err == nil {
			walk(h)
		}
	}
}

// FuzzHive opens hives whose bins are what is given, zero behind it, with a log
// that has a page of them anew. Without the padding the inputs are short.
func FuzzHive(f *testing.F) {
	small := &write.Key{Name: "ROOT"}
	small.At(`A\B`).Set(write.Texted("run", String, "x"))
	whole := write.Hive(small, 5, "SYSTEM", at)
	bins := bytes.TrimRight(whole[headSize:], "\x00")
	f.Add(bins, []byte{})
	f.Add(bins, bins[:len(bins)/2])
	root := int(binary.LittleEndian.Uint32(whole[36:])) + 4
	list := int(binary.LittleEndian.Uint32(bins[root+28:])) + 4
	for place, v := range map[int]uint32{
		list + 4:  uint32(root - 4), // a key below itself
		root + 72: 4000,             // a name longer than its cell
		root + 20: 1 << 31,          // keys that are not there
		root + 36: 1 << 31,          // and values
		32:        1 << 31,          // a cell beyond the file
	} {
		bad := slices.Clone(bins)
		binary.LittleEndian.PutUint32(bad[place:], v)
		f.Add(bad, []byte{})
	}
	loop := slices.Clone(bins) // a list in itself
	copy(loop[list:], "ri\x01\x00")
	copy(loop[list+4:], loop[root+28:root+32])
	f.Add(loop, []byte{})
	padded := func(data []byte) []byte {
		file := slices.Clone(whole)
		clear(file[headSize+copy(file[headSize:], data):])
		return file
	}
	f.Fuzz(func(t *testing.T, data, newer []byte) {
		file, log := padded(data), []byte(nil)
		if len(newer) > 0 {
			file, log = logged(file, padded(newer))
		}
		if h, err := Open(bytes.NewReader(file), int64(len(file)), log); err == nil {
			walk(h)
		}
		if e, err := Edit(newPaper(padded(data)), int64(len(whole))); err == nil {
			_ = e.Set(e.Root(), "x", String, []byte("x\x00"), -1, at) // may fail, must not panic
		}
	})
}

// BenchmarkLookup finds some keys in a hive of 600,000 values, against reading
// the file once.
func BenchmarkLookup(b *testing.B) {
	root := &write.Key{Name: "ROOT"}
	for i := range 6000 {
		n := &write.Key{Name: fmt.Sprintf("{%08x}", i*2654435761)}
		for j := range 100 {
			n.Set(write.Raw(fmt.Sprintf("value %d", j), Binary, make([]byte, 120)))
		}
		root.Keys = append(root.Keys, n)
	}
	root.At(`Microsoft\Windows\CurrentVersion\Run`).Set(write.Texted("a", String, "b"))
	file := filepath.Join(b.TempDir(), "SOFTWARE")
	data := write.Hive(root, 5, "SOFTWARE", at)
	if err := os.WriteFile(file, data, 0o600); err != nil {
		b.Fatal(err)
	}
	var whole, ours time.Duration
	for b.Loop() {
		begin := time.Now()
		_, _ = os.ReadFile(file)
		whole += time.Since(begin)
		begin = time.Now()
		f, _ := os.Open(file)
		h, err := Open(f, int64(len(data)))
		if err != nil {
			b.Fatal(err)
		}
		run, err := h.Root().Key("Microsoft", "Windows", "CurrentVersion", "Run")
		if err != nil {
			b.Fatal(err)
		}
		_, _ = run.Values()
		f.Close()
		ours += time.Since(begin)
	}
	b.ReportMetric(float64(len(data))/1e6, "MB")
	b.ReportMetric(ours.Seconds()/whole.Seconds(), "of-reading-it-once")
}
