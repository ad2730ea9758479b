package manager

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"net"
)

// A skimmer is a connection to a bus on which the answers hold only the
// properties that are wanted. A manager tells three hundred of each unit where
// a dozen are asked for; to decode them all costs ten times what the rest of
// the asking does, which a recorder that must not disturb its boot cannot
// afford. The messages are those of the D-Bus specification, "Message
// Protocol".
type skimmer struct {
	net.Conn
	wanted  map[string]bool
	binary  bool // the lines of the greeting are over
	greeted int  // bytes of the greeting
	total   int  // bytes behind it
	room    []byte
	in      []byte // the part of it that is read and not yet parted
	out     []byte // messages to hand on
}

// What a bus may send. A socket of a user may be anything that user made.
const (
	longestGreeting = 4 << 10
	largestMessage  = 8 << 20
	mostOfAll       = 64 << 20
	replyType       = 2
	signatureField  = 8
)

var (
	errMessage  = errors.New("the bus sent a message that is none")
	errGreeting = errors.New("what answers there is no bus: its greeting has no end")
	errTooMuch  = errors.New("the bus sent more than a service manager has to tell")
)

func (s *skimmer) Write(b []byte) (int, error) {
	n, err := s.Conn.Write(b)
	s.binary = s.binary || bytes.HasPrefix(b, []byte("BEGIN"))
	return n, err
}

func (s *skimmer) Read(b []byte) (int, error) {
	if !s.binary {
		left := longestGreeting - s.greeted
		if left <= 0 {
			return 0, errGreeting
		}
		n, err := s.Conn.Read(b[:min(len(b), left)])
		s.greeted += n
		return n, err
	}
	for len(s.out) == 0 {
		m, err := s.message()
		if err != nil {
			return 0, err
		}
		s.out = s.skim(m)
	}
	n := copy(b, s.out)
	s.out = s.out[n:]
	return n, nil
}

// message reads one message whole.
func (s *skimmer) message() ([]byte, error) {
	const fixed = 16
	if err := s.fill(fixed); err != nil {
		return nil, err
	}
	order := orderOf(s.in)
	if order == nil {
		return nil, errMessage
	}
	size := fixed + aligned(uint64(order.Uint32(s.in[12:])), 8) + uint64(order.Uint32(s.in[4:]))
	if size > largestMessage {
		return nil, errMessage
	}
	if err := s.fill(int(size)); err != nil {
		return nil, err
	}
	m := s.in[:size]
	s.in = s.in[size:]
	return m, nil
}

// fill reads until n bytes are there. What was handed out before is no longer
// needed then.
func (s *skimmer) fill(n int) error {
	if len(s.in) >= n {
		return nil
	}
	if len(s.room) < n {
		s.room = make([]byte, max(n, 64<<10))
	}
	have := copy(s.room, s.in)
	got, err := io.ReadAtLeast(s.Conn, s.room[have:], n-have)
	s.in = s.room[:have+got]
	if s.total += got; s.total > mostOfAll {
		return errTooMuch
	}
	return err
}

// skim returns the message without what nobody wants, and any message that is
// not an answer with properties as it is.
func (s *skimmer) skim(m []byte) []byte {
	order := orderOf(m)
	fields := order.Uint32(m[12:])
	body := int(16 + aligned(uint64(fields), 8))
	if m[1] != replyType ||
		!bytes.Contains(m[16:16+
			fields], []byte{signatureField, 1, 'g', 0, 5, 'a', '{', 's', 'v', '}', 0}) {
		return m
	}
	w := &walk{b: m[body:], order: order}
	end := w.number() // of the list
	w.align(8)
	if w.bad || uint64(w.at)+uint64(end) != uint64(len(w.b)) {
		return m
	}
	short := append(make([]byte, 0, 2048), m[:body+8]...)
	for w.at < len(w.b) {
		w.align(8)
		begin := w.at
		key := w.text()
		w.value()
		if w.bad {
			return m
		}
		if s.wanted[string(key)] {
			for (len(short)-body)%8 != 0 {
				short = append(short, 0)
			}
			short = append(short, w.b[begin:w.at]...)
		}
	}
	order.PutUint32(short[4:], uint32(len(short)-body))
	order.PutUint32(short[body:], uint32(len(short)-body-8))
	return short
}

func orderOf(m []byte) binary.ByteOrder {
	switch m[0] {
	case 'l':
		return binary.LittleEndian
	case 'B':
		return binary.BigEndian
	}
	return nil
}

func aligned(n, to uint64) uint64 { return (n + to - 1) / to * to }

// A walk goes over values of the wire format without decoding them. It turns
// bad where they do not fit, and then stays where it is.
type walk struct {
	b     []byte
	at    int
	order binary.ByteOrder
	bad   bool
}

func (w *walk) skip(n int) {
	if w.bad || n < 0 || n > len(w.b)-w.at {
		w.bad = true
		return
	}
	w.at += n
}

func (w *walk) align(to int) { w.skip((to - w.at%to) % to) }

func (w *walk) number() uint32 {
	w.align(4)
	begin := w.at
	if w.skip(4); w.bad {
		return 0
	}
	return w.order.Uint32(w.b[begin:])
}

func (w *walk) text() []byte {
	n := int(min(w.number(), math.MaxInt32-1))
	begin := w.at
	if w.skip(n + 1); w.bad {
		return nil
	}
	return w.b[begin : begin+n]
}

// value passes a value that tells its own signature.
func (w *walk) value() { w.signed(1) }

func (w *walk) signed(depth int) {
	begin := w.at
	if w.skip(1); w.bad {
		return
	}
	n := int(w.b[begin])
	if w.skip(n + 1); w.bad {
		return
	}
	for types := w.b[begin+1 : begin+1+n]; len(types) > 0 && !w.bad; {
		types = w.pass(types, depth)
	}
}

// pass passes one complete type and returns the types after it. Of types that
// hold others the specification allows 64 in each other.
func (w *walk) pass(types []byte, depth int) []byte {
	one := complete(types)
	if one == 0 || depth > 64 {
		w.bad = true
		return nil
	}
	switch types[0] {
	case 'y':
		w.skip(1)
	case 'n', 'q':
		w.align(2)
		w.skip(2)
	case 'b', 'i', 'u', 'h':
		w.number()
	case 'x', 't', 'd':
		w.align(8)
		w.skip(8)
	case 's', 'o':
		w.text()
	case 'g':
		if begin := w.at; begin < len(w.b) {
			w.skip(int(w.b[begin]) + 2)
		} else {
			w.bad = true
		}
	case 'v':
		w.signed(depth + 1)
	case 'a':
		n := w.number()
		w.align(alignment(types[1]))
		w.skip(int(min(n, math.MaxInt32)))
	default: // a structure
		w.align(8)
		for inner := types[1 : one-1]; len(inner) > 0 && !w.bad; {
			inner = w.pass(inner, depth+1)
		}
	}
	return types[one:]
}

// complete returns how many letters the first complete type has; 0 where there
// is none.
func complete(types []byte) int {
	open := 0
	for i, c := range types {
		switch c {
		case 'a':
			continue
		case '(', '{':
			open++
		case ')', '}':
			if open--; open < 0 {
				return 0
			}
		default:
			if !bytes.ContainsRune([]byte("ybnqiuxtdsogvh"), rune(c)) {
				return 0
			}
		}
		if open == 0 {
			return i + 1
		}
	}
	return 0
}

func alignment(kind byte) int {
	switch kind {
	case 'y', 'g', 'v':
		return 1
	case 'n', 'q':
		return 2
	case 'x', 't', 'd', '(', '{':
		return 8
	}
	return 4
}
