package journal

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"calmdawn/internal/demo/write"
)

// TestTwiceAsBrokenTakesTwiceAsMuch reads logs with n and 2n entries in which a
// byte of every few hundred is wrong, and counts reads and allocations.
func TestTwiceAsBrokenTakesTwiceAsMuch(t *testing.T) {
	cost := func(entries int) (read int64, allocations float64) {
		w := write.NewJournal(ID{5}, ID{1})
		bootEntries(w, 1, began, entries)
		bad := w.Bytes()
		rng := rand.New(rand.NewPCG(39, 3))
		for at := len(bad) / 4; at < len(bad); at += 600 { // the tables stay
			bad[at+rng.IntN(min(300, len(bad)-at))] ^= 0x55
		}
		try := func() {
			f, err := NewFile(bytes.NewReader(bad), int64(len(bad)))
			if err != nil {
				t.Fatal(err)
			}
			c := collector{boots: map[ID]*record{}, users: map[string]string{}}
			_ = c.listBoots(f)
			_ = c.readMessages(f, true)
			c.salvage(f, true)
			c.finish()
			read = f.BytesRead()
		}
		return read, testing.AllocsPerRun(2, try)
	}
	const n = 3000
	read, allocated := cost(n)
	readTwice, allocatedTwice := cost(2 * n)
	if float64(readTwice) > 2.5*float64(read) || allocatedTwice > 2.7*allocated+1000 {
		t.Errorf("twice as many entries: %d bytes read instead of %d, %.0f allocations instead "+
			"of %.0f", readTwice, read, allocatedTwice, allocated)
	}
	if read == 0 {
		t.Error("nothing was read")
	}
}
