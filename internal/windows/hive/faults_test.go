package hive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"testing"

	"calmdawn/internal/demo/write"
)

// dead is a hive whose root has a key with so many keys and values, none of
// which can be read: their entries lead nowhere.
func dead(t testing.TB, n int) *Hive {
	t.Helper()
	root := &write.Key{Name: "ROOT"}
	run := root.At("Run")
	run.List = "li"
	for i := range n {
		run.Keys = append(run.Keys, &write.Key{Name: fmt.Sprintf("K%06d", i)})
		run.Values = append(run.Values, write.Counted(fmt.Sprintf("V%06d", i), 1))
	}
	data := write.Hive(root, 5, "SOFTWARE", at)
	k, err := open(t, data).Root().Key("Run")
	if err != nil {
		t.Fatal(err)
	}
	for _, list := range []uint32{k.list + 4, k.valueList} {
		for i := range n {
			binary.LittleEndian.PutUint32(data[headSize+int(list)+4+4*i:], 4) // no cell's begin
		}
	}
	return open(t, data)
}

// TestManyFaultsAreBounded reads keys with n and 2n dead entries: it keeps as
// many faults of both, and works twice as much at most.
func TestManyFaultsAreBounded(t *testing.T) {
	const n = 2000
	allocations := map[string][]float64{}
	for _, count := range []int{n, 2 * n} {
		h := dead(t, count)
		k, err := h.Root().Key("Run")
		if err != nil {
			t.Fatal(err)
		}
		for what, read := range map[string]func() error{
			"keys":   func() error { _, err := k.Keys(); return err },
			"values": func() error { _, err := k.Values(); return err },
			"one":    func() error { _, err := k.Key("none"); return err },
		} {
			faults := (*Faults)(nil)
			if err := read(); !errors.As(err, &faults) || len(faults.First) != mostFaults ||
				faults.More < count-mostFaults {
				t.Errorf("%d dead %s: %T", count, what, err)
			}
			allocations[what] = append(allocations[what], testing.AllocsPerRun(2, func() {
				_ = read()
			}))
		}
	}
	for what, of := range allocations {
		if of[1] > 2.3*of[0] {
			t.Errorf("%s: %.0f allocations for twice as many faults, %.0f for half", what, of[1],
				of[0])
		}
	}
}

// TestAListIsReadOnce has a list of lists name the same one again and again.
func TestAListIsReadOnce(t *testing.T) {
	root := &write.Key{Name: "ROOT"}
	run := root.At("Run")
	run.List = "ri"
	for i := range 3000 {
		run.Keys = append(run.Keys, &write.Key{Name: fmt.Sprintf("K%06d", i)})
	}
	data := write.Hive(root, 5, "SOFTWARE", at)
	k, err := open(t, data).Root().Key("Run")
	if err != nil {
		t.Fatal(err)
	}
	list := data[headSize+int(k.list)+4:]
	lists := int(binary.LittleEndian.Uint16(list[2:]))
	if string(list[:2]) != "ri" || lists < 2 {
		t.Fatalf("a list %q of %d", list[:2], lists)
	}
	for i := range lists {
		copy(list[4+4*i:8+4*i], list[4:8])
	}
	k, err = open(t, data).Root().Key("Run")
	if err != nil {
		t.Fatal(err)
	}
	keys, err := k.Keys()
	faults := (*Faults)(nil)
	if !errors.As(err, &faults) || len(faults.First)+faults.More != lists-1 ||
		len(keys) > 3000/lists+1 {
		t.Errorf("%d keys, %v", len(keys), err)
	}
}
