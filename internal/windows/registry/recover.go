package registry

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"calmdawn/internal/core/change"
	"calmdawn/internal/machine"
	"calmdawn/internal/windows/hive"
)

// FileScheme begins the addresses of hives as files:
// "hive:/Windows/System32/config/SYSTEM". What is edited there is one thing
// alone: a hive that was not written to its end is brought to its newest state,
// and back.
const FileScheme = "hive"

// files are the hives of a store as a [machine.Store].
type files struct{ store *Store }

// Files is the store of the hives' files, whose values s edits.
func (s *Store) Files() machine.Store { return files{s} }

// A told state is what the node of a hive's file holds.
type toldState struct {
	hive.State
	// of a file that is behind: its length and sum as it was found, and the
	// length of its bins in their newest state
	Size int64  `json:"size,omitempty"`
	Sum  []byte `json:"sum,omitempty"`
	End  int64  `json:"end,omitempty"`
}

func toldBy(n change.Node) (t toldState, err error) {
	err = json.Unmarshal(n.Data, &t)
	return t, err
}

func (t toldState) node(means string) (change.Node, error) {
	data, err := json.Marshal(t)
	return change.Node{Kind: change.Value, Data: data, Means: means}, err
}

// recovered is what a file comes to that was recovered from a state.
func recovered(from toldState) string { return fmt.Sprintf("recovered from %x", from.Sum) }

// fileOf is the path of the file at an address.
func fileOf(address string) string { return strings.TrimPrefix(address, FileScheme+":") }

// logs are those beside a hive. Where one cannot be read, that is an error.
func (s *Store) logs(file string) ([][]byte, error) {
	logs, unread := logsOf(s.root, file)
	for at, err := range unread {
		return nil, fmt.Errorf("its log %s cannot be read: %w", path.Base(at), err)
	}
	return logs, nil
}

// kept returns the edit that recovered a file, and how the file was before;
// nil where nothing is kept.
func (s *Store) kept(f io.ReaderAt, file string) (change.Edit, *hive.Past, error) {
	if s.root.Keeper == nil {
		return change.Edit{}, nil, nil
	}
	e, parts, err := s.root.Keeper.Kept(FileScheme + ":" + file)
	if err != nil || e.Path == "" {
		return e, nil, err
	}
	from, err := toldBy(e.Before)
	if err != nil {
		return e, nil, err
	}
	return e, hive.NewPast(f, from.Size, parts), nil
}

// goesOn reports whether a file is still the one that an edit recovered. What
// is kept of it is laid over it: whoever else wrote to it has left something.
func goesOn(e change.Edit, past *hive.Past) (toldState, bool, error) {
	from, err := toldBy(e.Before)
	if err != nil {
		return from, false, err
	}
	sum, err := past.Sum()
	return from, bytes.Equal(sum, from.Sum), err
}

// Node returns the state of a hive's file.
func (s files) Node(address, _ string) (change.Node, error) {
	defer s.store.begin()()
	return s.store.state(fileOf(address))
}

func (s *Store) state(file string) (change.Node, error) {
	none := change.Node{Kind: change.Absent}
	info, err := s.root.Stat(file)
	if err != nil {
		return none, err
	}
	logs, err := s.logs(file)
	if err != nil {
		return none, err
	}
	f, err := s.root.OpenFile(file)
	if err != nil {
		return none, err
	}
	defer f.Close()
	state, err := hive.StateOf(f, info.Size, logs...)
	if err != nil {
		return none, &machine.Refusal{Path: file, Reason: err.Error()}
	}
	e, past, err := s.kept(f, file)
	if err != nil {
		return none, err
	}
	told := toldState{State: state}
	if !state.Behind {
		means := ""
		if past != nil {
			from, same, err := goesOn(e, past)
			if err != nil {
				return none, err
			}
			if same {
				means = recovered(from)
			}
		}
		return told.node(means)
	}
	if past != nil { // it may be written in part
		if from, err := toldBy(e.Before); err == nil && alike(from.State, state) {
			return e.Before, nil
		}
	}
	r, err := hive.Recover(f, info.Size, logs...)
	if err != nil {
		return none, err
	}
	told.Size, told.End = info.Size, r.Bins()
	if told.Sum, err = hive.NewPast(f, info.Size, nil).Sum(); err != nil {
		return none, err
	}
	return told.node("")
}

func alike(a, b hive.State) bool {
	return a.Behind == b.Behind && bytes.Equal(a.Head, b.Head) && bytes.Equal(a.Bins, b.Bins) &&
		bytes.Equal(a.Logs, b.Logs)
}

// Recovering returns the edits that bring the hives of values to their newest
// state, where their files are behind.
func (s *Store) Recovering(edits []change.Edit) (all []change.Edit, err error) {
	defer s.begin()()
	for _, e := range edits {
		key, _, _ := parse(e.Path)
		file, _, err := s.hiveOf(key)
		if errors.As(err, new(*machine.Away)) {
			continue // for the edit itself to find
		}
		if err != nil {
			return nil, err
		}
		address := FileScheme + ":" + file
		if slices.ContainsFunc(all, func(e change.Edit) bool { return e.Path == address }) {
			continue
		}
		o, err := s.load(file)
		if errors.Is(err, fs.ErrNotExist) || err == nil && o.behind == nil {
			continue
		}
		if err != nil {
			return nil, err
		}
		before, err := s.state(file)
		if err != nil {
			return nil, err
		}
		from, err := toldBy(before)
		if err != nil {
			return nil, err
		}
		logs, err := s.logs(file)
		if err != nil {
			return nil, err
		}
		state, err := hive.StateOf(o.behind, o.behind.Size(), logs...)
		if err != nil {
			return nil, err
		}
		after, err := toldState{State: state}.node(recovered(from))
		if err != nil {
			return nil, err
		}
		all = append(all, change.Edit{Path: address, Before: before, After: after})
	}
	return all, nil
}

// Base is the address of the file in which a value stands.
func (s *Store) Base(address string) string {
	defer s.begin()()
	key, _, _ := parse(address)
	file, _, err := s.hiveOf(key)
	if err != nil {
		return ""
	}
	return FileScheme + ":" + file
}

// Apply brings a file to its newest state, or back.
func (s files) Apply(e change.Edit) error { return s.change(e) }

func (s files) change(e change.Edit) error {
	defer s.store.begin()()
	file := fileOf(e.Path)
	now, err := s.store.state(file)
	if err != nil {
		return err
	}
	if !now.Same(e.Before) {
		return &change.Conflict{Edit: e, Now: now}
	}
	if now.Same(e.After) {
		return nil
	}
	if why := s.store.why(); why != "" {
		return &machine.Refusal{Path: file, Reason: why}
	}
	to, err := toldBy(e.After)
	if err != nil {
		return err
	}
	if err := s.store.bring(file, to, e); err != nil {
		return err
	}
	made, err := s.store.state(file)
	if err == nil && !made.Same(e.After) {
		err = &machine.Refusal{Path: file, Reason: "does not hold what was just written to it"}
	}
	return err
}

// bring writes to a hive's file what an edit says.
func (s *Store) bring(file string, to toldState, e change.Edit) error {
	delete(s.open, file)
	logs, err := s.logs(file)
	if err != nil {
		return err
	}
	info, err := s.root.Stat(file)
	if err != nil {
		return err
	}
	f, err := s.root.OpenInPlace(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if to.Behind {
		kept, past, err := s.kept(f, file)
		if err != nil {
			return err
		}
		if past == nil {
			return &machine.Refusal{Path: file, Reason: "is not given back: what stood there is " +
				"not kept"}
		}
		if _, same, err := goesOn(kept, past); err != nil || !same {
			return errors.Join(err, &change.Conflict{Edit: e, Now: e.Before})
		}
		return past.Restore(f, logs...)
	}
	r, err := hive.Recover(f, info.Size, logs...)
	if err != nil {
		return &machine.Refusal{Path: file, Reason: err.Error()}
	}
	parts := map[int64][]byte{}
	for _, span := range r.Spans() {
		end := min(span[0]+span[1], info.Size)
		for at := span[0]; at < end; at += maxPart {
			part := make([]byte, min(maxPart, end-at))
			if _, err := f.ReadAt(part, at); err != nil {
				return err
			}
			parts[at] = part
		}
	}
	if s.root.Keeper == nil {
		return &machine.Refusal{Path: file, Reason: "is not written to: nothing keeps what " +
			"stands there"}
	}
	if err := s.root.Keeper.Keep(FileScheme+":"+file, parts); err != nil {
		return err
	}
	return r.Write(f)
}

// maxPart bounds a part that is kept, in bytes.
const maxPart = 64 << 10

// Force does as Apply does: nothing else knows what a hive is to hold.
func (s files) Force(e change.Edit) (err error) {
	now, err := s.Node(e.Path, "")
	if err != nil {
		return err
	}
	if e.Before = now; !now.Agrees(e.After) && e.After.Means == "" && now.Means == "" {
		return &change.Conflict{Edit: e, Now: now}
	}
	return s.change(e)
}

// SweepBeside gives a file that is behind again all of its bytes.
func (s files) SweepBeside(e change.Edit) error {
	defer s.store.begin()()
	to, err := toldBy(e.After)
	if err != nil || !to.Behind {
		return err
	}
	file := fileOf(e.Path)
	now, err := s.store.state(file)
	if err != nil || !now.Same(e.After) {
		return nil // which is for the edit itself to find
	}
	info, err := s.store.root.Stat(file)
	if err != nil {
		return err
	}
	f, err := s.store.root.OpenFile(file)
	if err != nil {
		return err
	}
	sum, err := hive.NewPast(f, info.Size, nil).Sum()
	f.Close()
	if err != nil || bytes.Equal(sum, to.Sum) {
		return err
	}
	return s.store.bring(file, to, e)
}

// Fixed reports whether the disk takes no edits.
func (s files) Fixed(e change.Edit) bool { return s.store.root.ReadOnly(path.Dir(fileOf(e.Path))) }

// Reach returns a *machine.Away error for an edit of a file that is not there.
func (s files) Reach(e change.Edit) error {
	file := fileOf(e.Path)
	if _, err := s.store.root.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return &machine.Away{Path: e.Path, At: file, Kind: machine.HiveGone}
	}
	return nil
}

// Words says whether a file is the newest state of its hive.
func (files) Words(_ string, n change.Node) string {
	if told, err := toldBy(n); err == nil && told.Behind {
		return "not written to its end"
	}
	return "whole"
}

// Mind says what is better, where it can be done.
func (s files) Mind(address string) []string {
	now, err := s.Node(address, "")
	if told, wrong := toldBy(now); err != nil || wrong != nil || !told.Behind {
		return nil
	}
	return []string{"This Windows was not shut down: the registry's newest state stands in " +
		"logs beside it, and is written to its file first. Where it still starts, start it and " +
		"shut it down in full instead: it puts its file system in order too."}
}

// Folder tells of no folder: a file of these stands in none of ours.
func (files) Folder(string, string) (machine.FolderState, error) {
	return machine.FolderState{Exists: true}, nil
}

// MakeFolder, RemoveFolder and SetFolderTime have nothing to do.
func (files) MakeFolder(string, string, uint32) error { return nil }

// RemoveFolder has nothing to do.
func (files) RemoveFolder(string, string) error { return nil }

// SetFolderTime has nothing to do.
func (files) SetFolderTime(string, string, int64) error { return nil }
