package machine

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"calmdawn/internal/core/change"
)

// A Draft collects edits that are planned and not made. Its reading shows each
// path as the edits planned so far would leave it, so that several decisions
// can touch the same file. It is for one goroutine. After a call that failed,
// the draft is as it was before it.
type Draft struct {
	root  *Root
	at    time.Time
	edits map[string]*change.Edit
	order []string
}

// Draft begins an empty draft; at becomes the modification time of what it
// writes.
func (r *Root) Draft(at time.Time) *Draft {
	return &Draft{root: r, at: at, edits: map[string]*change.Edit{}}
}

// At is when what the draft plans is taken to be made.
func (d *Draft) At() time.Time { return d.at }

// edit returns the edit of p, planned so far or empty. Folders that are links
// are followed first, so that one file has one edit.
func (d *Draft) edit(p, home string) (*change.Edit, error) {
	var err error
	if change.Scheme(p) == "" {
		p, err = d.settle(p)
	}
	if err != nil {
		return nil, err
	}
	if home != "" {
		if home, err = d.root.Resolve(home); err != nil {
			return nil, err
		}
		if !strings.HasPrefix(p, strings.TrimSuffix(home, "/")+"/") {
			return nil, &Refusal{p, "a link leads out of the home " + home + "; it is not edited"}
		}
	}
	if e, ok := d.edits[p]; ok {
		return e, nil
	}
	now, err := d.root.Node(p, home)
	if err != nil {
		return nil, err
	}
	e := &change.Edit{Path: p, Home: home, Before: now, After: now}
	d.edits[p] = e
	d.order = append(d.order, p)
	return e, nil
}

// settle follows the links in the folder of p, as far as the folder exists.
func (d *Draft) settle(p string) (string, error) {
	dir, rest := split(p)
	for {
		real, err := d.root.Resolve(dir)
		if err == nil {
			return path.Join(real, rest), nil
		}
		if !errors.Is(err, fs.ErrNotExist) || dir == "/" {
			return "", err
		}
		if info, err := d.root.Lstat(dir); err == nil && info.Kind == Symlink {
			return "", &Refusal{p, dir + " is a link that leads nowhere"}
		}
		rest = path.Join(path.Base(dir), rest)
		dir = path.Dir(dir)
	}
}

// Node returns the state of p as it would be after the edits planned so far.
func (d *Draft) Node(p, home string) (change.Node, error) {
	e, err := d.edit(p, home)
	if err != nil {
		return change.Node{}, err
	}
	return e.After, nil
}

// Link plans a symbolic link at p, in place of what is there.
func (d *Draft) Link(p, home, target string) error {
	e, err := d.edit(p, home)
	if err != nil {
		return err
	}
	if e.After.Kind == change.Link && e.After.Target == target {
		return nil
	}
	if e.Before.Kind == change.Link && e.Before.Target == target {
		e.After = e.Before
		return nil
	}
	e.After, err = d.fresh(home)
	e.After.Kind, e.After.Target = change.Link, target
	return err
}

// Create plans a new file at p, with mode 0644.
func (d *Draft) Create(p, home string, text []byte) error {
	e, err := d.edit(p, home)
	if err != nil {
		return err
	}
	if e.After.Kind != change.Absent {
		return &Refusal{p, "is there already"}
	}
	e.After, err = d.fresh(home)
	e.After.Kind, e.After.Data, e.After.Mode = change.File, text, 0o644
	return err
}

// LabelLike plans that p, which the draft creates, carries the security label
// of the first of the other paths that is there.
func (d *Draft) LabelLike(p string, like ...string) error {
	e, err := d.edit(p, "")
	if err != nil {
		return err
	}
	for _, other := range like {
		other, err := d.root.Resolve(other)
		if err != nil {
			continue
		}
		n, err := d.root.Node(other, "")
		if err != nil {
			continue
		}
		for key, value := range n.Xattrs {
			if change.IsLabel(key) {
				if e.After.Xattrs == nil {
					e.After.Xattrs = map[string][]byte{}
				}
				e.After.Xattrs[key] = value
			}
		}
		return nil
	}
	return nil
}

// fresh is a node that nobody had before: it belongs to the home's owner,
// elsewhere to whom we work as.
func (d *Draft) fresh(home string) (change.Node, error) {
	n := change.Node{UID: os.Geteuid(), GID: os.Getegid(), ModTime: d.at.UnixNano()}
	if home == "" || n.UID != 0 {
		return n, nil
	}
	info, err := d.root.Stat(home)
	n.UID, n.GID = info.UID, info.GID
	return n, err
}

// Set plans a value at the address of a store, of a type as that numbers them.
func (d *Draft) Set(address string, kind uint32, data []byte) error {
	e, err := d.edit(address, "")
	if err != nil {
		return err
	}
	e.After = change.Node{Kind: change.Value, Type: kind, Data: data}
	return nil
}

// AllowRun plans that whoever may read the file p may execute it too.
func (d *Draft) AllowRun(p string) error {
	return d.chmod(p, func(mode uint32) uint32 { return mode | mode&0o444>>2 })
}

// ForbidRun plans that nobody may execute the file p.
func (d *Draft) ForbidRun(p string) error {
	return d.chmod(p, func(mode uint32) uint32 { return mode &^ 0o111 })
}

func (d *Draft) chmod(p string, mode func(uint32) uint32) error {
	e, err := d.edit(p, "")
	if err != nil {
		return err
	}
	if e.After.Kind != change.File {
		return &Refusal{p, "is " + e.After.Describe() + " where a file is expected; it is not " +
			"edited"}
	}
	e.After.Mode = mode(e.After.Mode)
	return nil
}

// Remove plans that p is gone.
func (d *Draft) Remove(p, home string) error {
	e, err := d.edit(p, home)
	if err != nil {
		return err
	}
	e.After = change.Node{Kind: change.Absent}
	return nil
}

// Rewrite plans another text for the file p, made by edit from the text that it
// would have.
func (d *Draft) Rewrite(p, home string, edit func(text []byte) ([]byte, error)) error {
	e, err := d.edit(p, home)
	if err != nil {
		return err
	}
	if e.After.Kind != change.File {
		return &Refusal{p, "is " + e.After.Describe() + " where a file is expected; it is not " +
			"edited"}
	}
	text, err := edit(e.After.Data)
	if err != nil {
		return err
	}
	if e.Before.Kind == change.File && string(text) == string(e.Before.Data) {
		e.After = e.Before
		return nil
	}
	e.After.Data, e.After.ModTime = text, d.at.UnixNano()
	return nil
}

// Edits returns what the draft changes, in the order in which it was planned;
// what is left as it was is not in it. The slice is the caller's, the texts in
// it are not to be written to.
func (d *Draft) Edits() []change.Edit {
	var edits []change.Edit
	for _, p := range d.order {
		if e := d.edits[p]; !e.Before.Same(e.After) {
			edits = append(edits, *e)
		}
	}
	return edits
}
