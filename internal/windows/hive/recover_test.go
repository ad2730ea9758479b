package hive

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"calmdawn/internal/demo/write"
	"calmdawn/internal/ring"
)

// Truncate cuts the paper.
func (p *paper) Truncate(size int64) error {
	p.data = p.data[:size]
	return nil
}

// behind is a hive that a power cut left, with its logs, and what it shall be.
func behind(t *testing.T, rng *rand.Rand) (file []byte, logs [][]byte, after []byte) {
	t.Helper()
	before := grown(rng, uint32(3+rng.IntN(4)))
	e, p := edited(t, before)
	play(t, rng, e, worldOf(t, e), 5+rng.IntN(30))
	after = p.data
	if rng.IntN(4) == 0 {
		file, log := write.BehindOld(rng, before, after)
		return file, [][]byte{log}, after
	}
	file, log1, log2 := write.Behind(rng, before, after)
	return file, [][]byte{log1, log2}, after
}

// newest fails unless a hive's file, with its logs, is whole or behind, and
// holds what it shall.
func newest(t *testing.T, data []byte, logs [][]byte, want []byte) {
	t.Helper()
	size := int64(len(data))
	e, err := Edit(newPaper(data), size, logs...)
	if err != nil {
		r, wrong := Recover(bytes.NewReader(data), size, logs...)
		if wrong != nil {
			t.Fatalf("%v; %v", err, wrong)
		}
		if e, err = Edit(r, r.Size(), logs...); err != nil {
			t.Fatal(err)
		}
	}
	found := make([]byte, len(want)-headSize)
	if int64(len(found)) > e.size {
		t.Fatalf("its bins have %d bytes of %d", e.size, len(found))
	}
	if raw, err := e.bytes(0, len(found)); err != nil || !bytes.Equal(raw, want[headSize:]) {
		t.Fatalf("its bins are not what they shall be (%v)", err)
	}
}

// TestHivesThatWereNotWrittenToTheirEnd recovers hives that power cuts left,
// changes some, and gives each its bytes back. It stops all of that anywhere.
func TestHivesThatWereNotWrittenToTheirEnd(t *testing.T) {
	states := 0
	for seed := range rounds(ring.Pick[uint64](40, 200, 200)) {
		rng := rand.New(rand.NewPCG(seed, 44))
		file, logs, after := behind(t, rng)
		size := int64(len(file))
		r, err := Recover(bytes.NewReader(file), size, logs...)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		p := newPaper(file)
		p.watched = true
		parts := map[int64][]byte{}
		for _, s := range r.Spans() {
			if end := min(s[0]+s[1], size); s[0] < end {
				parts[s[0]] = slices.Clone(file[s[0]:end])
			}
		}
		if err := r.Write(p); err != nil {
			t.Fatal(err)
		}
		for _, step := range p.steps {
			for _, disk := range step.states(rng, 4) {
				newest(t, disk, logs, after)
				states++
			}
		}
		whole(t, p.data)
		newest(t, p.data, logs, after)
		if seed%10 == 0 {
			sameAsForeign(t, p.data)
		}

		changed := &watched{paper: p, parts: parts, size: size}
		var kept []string
		if seed%2 == 0 {
			kept = content(t, p.data)
			e, err := Edit(changed, int64(len(p.data)), logs...)
			if err != nil {
				t.Fatal(err)
			}
			e.Spare(r.Bins())
			thereAndBack(t, rng, e)
			if !slices.Equal(content(t, p.data), kept) {
				t.Fatalf("seed %d: it holds something else", seed)
			}
		}
		past := NewPast(bytes.NewReader(p.data), size, parts)
		if sum, err := past.Sum(); err != nil ||
			!bytes.Equal(sum, sumOf(t, file)) {
			t.Fatalf("seed %d: not all is kept that was overwritten (%v)", seed, err)
		}
		p.disk, p.steps, p.unsynced = slices.Clone(p.data), nil, map[int64][]byte{}
		if err := NewPast(p, size, parts).Restore(p, logs...); err != nil {
			t.Fatal(err)
		}
		for _, step := range p.steps {
			for _, disk := range step.states(rng, 4) {
				if b, _ := parseBase(disk); b.first != b.second {
					newest(t, disk, logs, after)
				} else if whole(t, disk); kept != nil && !slices.Equal(content(t, disk), kept) {
					t.Fatalf("seed %d: stopped, it holds something else", seed)
				}
				states++
			}
		}
		if !bytes.Equal(p.data, file) {
			t.Fatalf("seed %d: the file does not have its bytes back", seed)
		}
	}
	if states < ring.Pick(400, 2000, 2000) {
		t.Errorf("only %d states were looked at", states)
	}
}

// watched is a paper of which the parts are kept that are overwritten.
type watched struct {
	*paper
	parts map[int64][]byte
	size  int64
}

func (w *watched) WriteAt(data []byte, at int64) (int, error) {
	covered := sectors{}
	for place, part := range w.parts {
		covered.add(place, int64(len(part)))
	}
	for s := at &^ (sectorSize - 1); s < min(at+int64(len(data)), w.size); s += sectorSize {
		if !covered[s] {
			w.parts[s] = slices.Clone(w.data[s:min(s+sectorSize, w.size)])
		}
	}
	return w.paper.WriteAt(data, at)
}

func sumOf(t *testing.T, data []byte) []byte {
	t.Helper()
	sum, err := NewPast(bytes.NewReader(data), int64(len(data)), nil).Sum()
	if err != nil {
		t.Fatal(err)
	}
	return sum
}

// thereAndBack changes values and keys of a hive, and takes that back.
func thereAndBack(t *testing.T, rng *rand.Rand, e *Editor) {
	t.Helper()
	must := func(err error) {
		if err != nil {
			t.Helper()
			t.Fatal(err)
		}
	}
	for range 8 {
		keys, err := e.Root().Keys()
		must(err)
		name := keys[rng.IntN(len(keys))].Name
		key := func() Key {
			k, err := e.Root().Key(name)
			must(err)
			return k
		}
		stamp := key().Written
		switch values, err := key().Values(); {
		case err == nil && len(values) > 0 && rng.IntN(2) == 0:
			v := values[rng.IntN(len(values))]
			data, err := v.Data()
			must(err)
			at := e.Index(key(), v.Name)
			if rng.IntN(2) == 0 {
				must(e.Unset(key(), v.Name, time.Now()))
			} else {
				must(e.Set(key(), v.Name, v.Type+1, make([]byte, rng.IntN(300)), at, time.Now()))
			}
			must(e.Set(key(), v.Name, v.Type, data, at, time.Now()))
		case rng.IntN(2) == 0:
			must(e.Set(key(), "Mill", Binary, make([]byte, rng.IntN(9000)), 0, time.Now()))
			must(e.Unset(key(), "Mill", time.Now()))
		default:
			err := e.MakeKey(key(), "Mill", time.Now())
			if err != nil { // its record lies across two sectors
				again, err := Edit(e.file, headSize+e.size)
				must(err)
				floor := e.floor
				*e = *again
				e.Spare(int64(floor))
				continue
			}
			must(e.RemoveKey(key(), "Mill", time.Now()))
		}
		must(e.Stamp(key(), stamp))
	}
}

// TestHivesThatAreNotRecovered: what is missing, torn or another hive's is no
// evidence of the newest state.
func TestHivesThatAreNotRecovered(t *testing.T) {
	before := write.Hive(sample(), 5, "SOFTWARE", at)
	after := write.Hive(changed(), 5, "SOFTWARE", at)
	file, log := logged(before, after)
	torn := func(data []byte, place int) []byte {
		data = slices.Clone(data)
		data[place] ^= 1
		return data
	}
	other := write.Hive(changed(), 5, "SYSTEM", at)
	_, strange := logged(before, other)
	large := grown(rand.New(rand.NewPCG(1, 1)), 5)
	e, p := edited(t, large)
	if err := e.Set(e.Root(), "Mill", Binary, make([]byte, 9000), 0, at); err != nil {
		t.Fatal(err)
	}
	large, largeLog := logged(large, p.data)
	for name, c := range map[string]struct {
		file []byte
		logs [][]byte
		why  string
	}{
		"no log":                   {file, nil, "no log holds the rest"},
		"an empty log":             {file, [][]byte{nil, make([]byte, 4096)}, "no log holds"},
		"a torn entry":             {file, [][]byte{torn(log, len(log)-1)}, "(1) are damaged"},
		"the first entry torn":     {file, [][]byte{torn(log, 700)}, "(1) are damaged"},
		"a torn head of a log":     {file, [][]byte{torn(log, 60)}, "page of a log is damaged"},
		"a log cut in its head":    {file, [][]byte{log[:100]}, "cut short"},
		"another hive's log":       {file, [][]byte{strange}, "another hive's"},
		"one of them another's":    {file, [][]byte{log, strange}, "another hive's"},
		"a torn first page":        {torn(file, 60), [][]byte{log}, "its first page is damaged"},
		"a whole hive":             {before, [][]byte{log}, "it was written to its end"},
		"bins that nobody has":     {large[:len(large)/2], [][]byte{largeLog}, "cut short"},
		"a log without its middle": {file, [][]byte{log[:len(log)-512]}, "are damaged"},
	} {
		_, err := Recover(bytes.NewReader(c.file), int64(len(c.file)), c.logs...)
		if err == nil || !bytes.Contains([]byte(err.Error()), []byte(c.why)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
