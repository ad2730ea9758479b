package manager

import (
	"bytes"
	"encoding/binary"
	"net"
	"slices"
	"testing"

	"github.com/godbus/dbus/v5"
)

// answer is a bus's answer with properties of many kinds.
func answer(t testing.TB, order binary.ByteOrder) []byte {
	t.Helper()
	type pair struct {
		A string
		B uint32
	}
	m := &dbus.Message{Type: dbus.TypeMethodReply, Headers: map[dbus.HeaderField]dbus.Variant{
		dbus.FieldReplySerial: dbus.MakeVariant(uint32(7)),
		dbus.FieldSignature:   dbus.MakeVariant(dbus.ParseSignatureMust("a{sv}")),
	}, Body: []any{map[string]dbus.Variant{
		"After":        dbus.MakeVariant([]string{"a.service", "basic.target"}),
		"CPUUsageNSec": dbus.MakeVariant(uint64(1 << 40)),
		"Type":         dbus.MakeVariant("oneshot"),
		"b":            dbus.MakeVariant(true),
		"y":            dbus.MakeVariant(byte(3)),
		"n":            dbus.MakeVariant(int16(-3)),
		"d":            dbus.MakeVariant(2.5),
		"o":            dbus.MakeVariant(dbus.ObjectPath("/a/b")),
		"g":            dbus.MakeVariant(dbus.ParseSignatureMust("a(su)")),
		"as":           dbus.MakeVariant([]pair{{"x", 1}, {"yy", 2}}),
		"m": dbus.MakeVariant(map[string]dbus.Variant{
			"k": dbus.MakeVariant([]uint64{}),
		}),
		"p":  dbus.MakeVariant(pair{"z", 9}),
		"v":  dbus.MakeVariant(dbus.MakeVariant(int32(5))),
		"ay": dbus.MakeVariant([]byte{1, 2, 3}),
	}}}
	var b bytes.Buffer
	if err := m.EncodeTo(&b, order); err != nil {
		t.Fatal(err)
	}
	b.Bytes()[8] = 1 // a serial, which a connection would have set
	return b.Bytes()
}

func TestSkimKeepsWhatIsWanted(t *testing.T) {
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		whole := answer(t, order)
		ours, theirs := net.Pipe()
		go func() {
			for _, part := range [][]byte{
				whole[:5],
				whole[5:100],
				append(slices.Clone(whole[100:]), whole...),
			} {
				theirs.Write(part)
			}
		}()
		s := &skimmer{
			Conn:   ours,
			binary: true,
			wanted: map[string]bool{"After": true, "CPUUsageNSec": true, "v": true, "p": true},
		}
		for range 2 {
			m, err := dbus.DecodeMessage(s)
			if err != nil {
				t.Fatal(err)
			}
			have := m.Body[0].(map[string]dbus.Variant)
			after, _ := have["After"].Value().([]string)
			if len(have) != 4 || !slices.Equal(after, []string{"a.service", "basic.target"}) ||
				have["CPUUsageNSec"].Value() != uint64(1<<40) {
				t.Errorf("%v: %v", order, have)
			}
		}
		ours.Close()
	}
}

// FuzzSkim: whatever a bus sends, it is made no longer, and nothing beyond its
// end is read.
func FuzzSkim(f *testing.F) {
	f.Add(answer(f, binary.LittleEndian))
	f.Add(answer(f, binary.BigEndian))
	f.Fuzz(func(t *testing.T, b []byte) {
		ours, theirs := net.Pipe()
		go func() {
			theirs.Write(b)
			theirs.Close()
		}()
		defer ours.Close()
		s := &skimmer{Conn: ours, binary: true, wanted: map[string]bool{"After": true, "v": true}}
		for {
			m, err := s.message()
			if err != nil {
				return
			}
			size := len(m)
			if short := s.skim(m); len(short) > size+8 {
				t.Fatalf("%d bytes became %d", size, len(short))
			}
		}
	})
}
