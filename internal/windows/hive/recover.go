package hive

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
)

// ErrBehind tells that the file of a hive is not its newest state.
var ErrBehind = errors.New("it was not written to its end, and its logs hold the rest")

// A Recovery is the newest state of a hive that was not written to its end.
// That is what Windows makes of the file and its logs when it loads the hive.
// As an [io.ReaderAt] it reads as the file shall be.
//
// The logs are never touched. Until the first page says that the file is whole,
// they hold the rest. So it may be written again after any stop.
type Recovery struct {
	f    io.ReaderAt
	size int64 // of the file as it is
	bins int64
	head []byte  // the first sector, as it shall be
	runs []patch // the other sectors that shall differ, by their places in the file
}

// Recover works out the newest state of the hive in a file of a size. The error
// says as a clause why that is not known for sure: a log is missing, torn, or
// another hive's. A hive that was written to its end has none either.
func Recover(f io.ReaderAt, size int64, logs ...[]byte) (*Recovery, error) {
	r := &Recovery{f: f, size: size, head: make([]byte, sectorSize)}
	if _, err := f.ReadAt(r.head, 0); err != nil {
		return nil, err
	}
	b, err := parseBase(r.head)
	switch {
	case err != nil:
		return nil, fmt.Errorf("its first page is damaged: %w", err)
	case b.first == b.second:
		return nil, errors.New("it was written to its end")
	case b.kind != 0:
		return nil, errNoHive
	}
	for _, log := range logs {
		if err := belongs(log, r.head); err != nil {
			return nil, err
		}
	}
	h := &Hive{
		f: f, size: int64(b.bins), blocks: map[int64][]byte{}, patches: map[int64][]patch{},
	}
	newest := h.replay(b, true, logs)
	switch {
	case newest.lost > 0:
		return nil, fmt.Errorf("newer changes in its logs (%d) are damaged", newest.lost)
	case newest.taken == 0:
		return nil, errors.New("no log holds the rest of it")
	case newest.bins%4096 != 0 || int64(newest.bins) > MaxEdited:
		return nil, fmt.Errorf("its logs say that it has %d bytes", newest.bins)
	}
	r.bins, h.size = int64(newest.bins), int64(newest.bins)
	if err := r.compare(h); err != nil {
		return nil, err
	}
	for at, v := range map[int]uint32{
		4: newest.next, 8: newest.next, 36: newest.root, 40: newest.bins,
	} {
		binary.LittleEndian.PutUint32(r.head[at:], v)
	}
	binary.LittleEndian.PutUint32(r.head[508:], checksum(r.head))
	return r, nil
}

const sectorSize = 512

// belongs says why a log is not that of the hive with a first sector. Its own
// first sector is a copy of the hive's. The name of the file is in it (at 48),
// and the id of what keeps its transactions (at 112). A log that was never used
// is empty.
func belongs(log, head []byte) error {
	if len(bytes.TrimLeft(log, "\x00")) == 0 {
		return nil
	}
	if len(log) < sectorSize {
		return errors.New("a log of it is cut short")
	}
	if _, err := parseBase(log); err != nil {
		return fmt.Errorf("the first page of a log is damaged: %w", err)
	}
	for _, part := range [][2]int{{48, 112}, {112, 128}} {
		ours, theirs := head[part[0]:part[1]], log[part[0]:part[1]]
		told := func(raw []byte) bool { return len(bytes.Trim(raw, "\x00")) > 0 }
		if told(ours) && told(theirs) && !bytes.Equal(ours, theirs) {
			return errors.New("a log beside it is another hive's")
		}
	}
	return nil
}

// compare finds the sectors in which the file differs from its newest state.
func (r *Recovery) compare(h *Hive) error {
	covered := newSectors()
	for _, all := range h.patches {
		for _, p := range all {
			covered.add(headSize+p.at, int64(len(p.data)))
		}
	}
	for at := max(r.size, headSize) &^ (sectorSize - 1); at < headSize+r.bins; at += sectorSize {
		if !covered[at] {
			return fmt.Errorf("it is cut short, and its logs do not hold what is missing (at %#x)",
				at)
		}
	}
	old := make([]byte, sectorSize)
	for _, at := range covered.places() {
		if at >= headSize+r.bins {
			break
		}
		data, err := h.bytes(at-headSize, sectorSize)
		if err != nil {
			return err
		}
		clear(old)
		if n, err := r.f.ReadAt(old, at); err != nil && !errors.Is(err, io.EOF) {
			return err
		} else if n == sectorSize && bytes.Equal(old, data) {
			continue
		}
		if last := len(r.runs) - 1; last >= 0 && r.runs[last].end() == at {
			r.runs[last].data = append(r.runs[last].data, data...)
		} else {
			r.runs = append(r.runs, patch{at, slices.Clone(data)})
		}
	}
	return nil
}

// sectors are places of sectors.
type sectors map[int64]bool

func newSectors() sectors { return sectors{} }

func (s sectors) add(at, n int64) {
	for p := at &^ (sectorSize - 1); p < at+n; p += sectorSize {
		s[p] = true
	}
}

func (s sectors) places() (all []int64) {
	for at := range s {
		all = append(all, at)
	}
	slices.Sort(all)
	return all
}

// Size is how long the file shall be, in bytes, and Bins how much of that are
// the bins behind the first page.
func (r *Recovery) Size() int64 { return max(r.size, headSize+r.bins) }

// Bins is the length of the bins, in bytes.
func (r *Recovery) Bins() int64 { return r.bins }

// Spans are the parts of the file that are written, as places and lengths in
// bytes, the first sector among them.
func (r *Recovery) Spans() (all [][2]int64) {
	all = [][2]int64{{0, sectorSize}}
	for _, p := range r.runs {
		all = append(all, [2]int64{p.at, int64(len(p.data))})
	}
	return all
}

// ReadAt reads bytes of the file as it shall be, as [io.ReaderAt] says.
func (r *Recovery) ReadAt(data []byte, at int64) (int, error) {
	n, err := r.f.ReadAt(data, at)
	if err != nil && !errors.Is(err, io.EOF) {
		return n, err
	}
	clear(data[n:])
	for _, p := range append([]patch{{0, r.head}}, r.runs...) {
		lay(data, at, p)
	}
	if left := r.Size() - at; left < int64(len(data)) {
		return int(max(0, left)), io.EOF
	}
	return len(data), nil
}

// lay lays a patch of a file over what was read of it from a place on.
func lay(data []byte, at int64, p patch) {
	if p.at >= at && p.at < at+int64(len(data)) {
		copy(data[p.at-at:], p.data)
	} else if p.at < at && p.end() > at {
		copy(data, p.data[at-p.at:])
	}
}

// WriteAt refuses: the file is to be recovered first.
func (*Recovery) WriteAt([]byte, int64) (int, error) { return 0, ErrBehind }

// Sync refuses, as WriteAt does.
func (*Recovery) Sync() error { return ErrBehind }

// Reserve refuses, as WriteAt does.
func (*Recovery) Reserve(int64) error { return ErrBehind }

// Write brings the file to its newest state. At every moment it is the hive
// that it was, with its logs, or the whole one.
func (r *Recovery) Write(f File) error {
	if err := f.Reserve(r.Size()); err != nil {
		return err
	}
	for _, p := range r.runs {
		if _, err := f.WriteAt(p.data, p.at); err != nil {
			return err
		}
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if _, err := f.WriteAt(r.head, 0); err != nil {
		return err
	}
	return f.Sync()
}

// A State tells the content of a hive's file by sums (SHA-256, FIPS 180-4).
// That of a file which is behind is what the logs make of it: how much of it is
// written already makes no difference.
type State struct {
	Behind bool   `json:"behind"`
	Head   []byte `json:"head"` // the sum of the first sector
	Bins   []byte `json:"bins"` // the sum of all bins in their newest state
	Logs   []byte `json:"logs"` // the sum of the logs
}

// StateOf returns the state of the hive in a file of a size.
func StateOf(f io.ReaderAt, size int64, logs ...[]byte) (State, error) {
	head := make([]byte, sectorSize)
	if _, err := f.ReadAt(head, 0); err != nil {
		return State{}, err
	}
	b, err := parseBase(head)
	if err != nil {
		return State{}, fmt.Errorf("its first page is damaged: %w", err)
	}
	s := State{Behind: b.first != b.second}
	at := sha256.Sum256(head)
	s.Head = at[:]
	sum := sha256.New()
	for _, log := range logs {
		fmt.Fprintln(sum, len(log))
		sum.Write(log)
	}
	s.Logs = sum.Sum(nil)
	bins := int64(b.bins)
	if s.Behind {
		r, err := Recover(f, size, logs...)
		if err != nil {
			return s, err
		}
		f, bins = r, r.bins
	}
	sum.Reset()
	if _, err := io.Copy(sum, io.NewSectionReader(f, headSize, bins)); err != nil {
		return s, err
	}
	s.Bins = sum.Sum(nil)
	return s, nil
}

// A Past is a file as it was before parts of it were overwritten. As an
// [io.ReaderAt] it reads so.
type Past struct {
	f     io.ReaderAt
	size  int64
	parts []patch
}

// NewPast is for a file that had a size, of which parts were kept by places.
// They do not overlap.
func NewPast(f io.ReaderAt, size int64, parts map[int64][]byte) *Past {
	p := &Past{f: f, size: size}
	for _, at := range slices.Sorted(maps.Keys(parts)) {
		p.parts = append(p.parts, patch{at, parts[at]})
	}
	return p
}

// ReadAt reads bytes of the file as it was, as [io.ReaderAt] says.
func (p *Past) ReadAt(data []byte, at int64) (int, error) {
	n, err := p.f.ReadAt(data, at)
	if err != nil && !errors.Is(err, io.EOF) {
		return n, err
	}
	clear(data[n:])
	for _, part := range p.parts {
		lay(data, at, part)
	}
	if left := p.size - at; left < int64(len(data)) {
		return int(max(0, left)), io.EOF
	}
	return len(data), nil
}

// Sum is the sum of all of the file as it was (SHA-256, FIPS 180-4).
func (p *Past) Sum() ([]byte, error) {
	sum := sha256.New()
	_, err := io.Copy(sum, io.NewSectionReader(p, 0, p.size))
	return sum.Sum(nil), err
}

// Restore gives a hive's file, which was not written to its end, its bytes
// back. The hive was recovered since. Editors that spared its bins changed it
// and took that back. At every moment it is the whole hive, or behind with
// what its logs hold: both hold the same.
func (p *Past) Restore(f CutFile, logs ...[]byte) error {
	r, err := Recover(p, p.size, logs...)
	if err != nil {
		return err
	}
	head := make([]byte, sectorSize)
	if _, err := f.ReadAt(head, 0); err != nil {
		return err
	}
	logged := sectors{} // parts that the logs stand for, once the hive is behind
	for _, s := range r.Spans() {
		logged.add(s[0], s[1])
	}
	put := func(which func(at int64) bool) error {
		for _, part := range p.parts {
			if !which(part.at) || len(part.data) == 0 {
				continue
			}
			if _, err := f.WriteAt(part.data, part.at); err != nil {
				return err
			}
		}
		return f.Sync()
	}
	if b, err := parseBase(head); err != nil || b.first == b.second {
		// what leads to cells that spared ones hold
		if err := put(func(at int64) bool { return !logged[at] }); err != nil {
			return err
		}
	}
	if err := put(func(at int64) bool { return at == 0 }); err != nil {
		return err
	}
	if err := put(func(at int64) bool { return at != 0 }); err != nil {
		return err
	}
	if err := f.Truncate(p.size); err != nil {
		return err
	}
	return f.Sync()
}

// A CutFile is a [File] that can be made shorter.
type CutFile interface {
	File
	// Truncate cuts the file after so many bytes.
	Truncate(size int64) error
}
