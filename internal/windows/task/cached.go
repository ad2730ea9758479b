package task

import (
	"encoding/binary"
	"fmt"

	"calmdawn/internal/windows/registry"
)

// What an action in the scheduler's list is, by the mark before it.
const (
	execMark    = 0x6666
	handlerMark = 0x7777
)

// cachedActions are the actions of a task as the scheduler's list keeps them.
// It holds a version, from the second on whose rights they have. Then they
// stand one behind the other, each a mark, a name and its texts with their
// lengths. The form is known from lists of other writers, not from a document;
// what does not fit it ends the reading.
func cachedActions(data []byte) (d definition) {
	r := &cursor{data: data}
	version := r.number(2)
	if version < 1 || version > 3 {
		return d
	}
	if version > 1 {
		r.text() // whose rights
	}
	const most = 64
	for n := 0; !r.over && n < most; n++ {
		mark := r.number(2)
		r.text() // its name
		switch mark {
		case execMark:
			command, arguments := r.text(), r.text()
			r.text() // the folder to begin in
			if version > 2 {
				r.number(2)
			}
			if r.over {
				return d
			}
			d.Actions.Exec = append(d.Actions.Exec, struct{ Command, Arguments string }{
				command, arguments,
			})
		case handlerMark:
			class := r.class()
			r.text() // its data
			if r.over {
				return d
			}
			d.Actions.Handler = append(d.Actions.Handler, struct {
				ClassID string `xml:"ClassId"`
			}{class})
		default:
			return d
		}
	}
	return d
}

// A cursor reads numbers and texts; over says that there were no more.
type cursor struct {
	data []byte
	over bool
}

func (c *cursor) take(n int) []byte {
	if n < 0 || n > len(c.data) {
		c.over = true
		return nil
	}
	part := c.data[:n]
	c.data = c.data[n:]
	return part
}

func (c *cursor) number(n int) int {
	raw := make([]byte, 4)
	copy(raw, c.take(n))
	return int(binary.LittleEndian.Uint32(raw))
}

// text is one of UTF-16, its length in bytes before it.
func (c *cursor) text() string {
	return registry.Text(append([]byte("\xff\xfe"), c.take(c.number(4))...))
}

// class is a GUID as Windows writes it, RFC 9562 with its first parts reversed.
func (c *cursor) class() string {
	g := c.take(16)
	if g == nil {
		return ""
	}
	return fmt.Sprintf("{%08X-%04X-%04X-%X-%X}", binary.LittleEndian.Uint32(g),
		binary.LittleEndian.Uint16(g[4:]), binary.LittleEndian.Uint16(g[6:]), g[8:10], g[10:])
}
