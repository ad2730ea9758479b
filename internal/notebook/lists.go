package notebook

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"time"

	"calmdawn/internal/ownfile"
)

// A List is what was last shown of a machine's items as numbered rows.
type List struct {
	At   time.Time `json:"at"`
	Rows []Row     `json:"rows"`
	// Before are the rows of the list before this one, and when that was shown:
	// somebody may still read their numbers there.
	Before   []Row     `json:"before,omitempty"`
	BeforeAt time.Time `json:"before_at,omitzero"`
}

// A Row is one item of a [List], as it was then. Row numbers begin with 1.
type Row struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	State string `json:"state"`
	With  []Row  `json:"with,omitempty"` // those that the row stands for besides
}

// ErrNoList says that no list of the machine was shown.
var ErrNoList = errors.New("no list of this machine was shown to you")

// Bounds of what is kept: lists so old are removed, and what is larger is none
// of ours.
const (
	listsKept = 7 * 24 * time.Hour
	mostBytes = 8 << 20
)

// StateFolder is where the technician's lists are kept: below XDG_STATE_HOME,
// or .local/state (XDG Base Directory Specification).
func StateFolder() (string, error) {
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "calmdawn"), nil
	}
	if runtime.GOOS == "windows" {
		dir, err := os.UserCacheDir() // %LocalAppData%
		return filepath.Join(dir, "calmdawn"), err
	}
	home, err := os.UserHomeDir()
	return stateIn(home), err
}

func stateIn(home string) string { return filepath.Join(home, ".local", "state", "calmdawn") }

// Keep keeps a list in the state folder as the last one of a machine, which any
// text names that no other machine has.
func (l List) Keep(folder, machine string) error {
	file := listFile(folder, machine)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	forget(filepath.Dir(file), l.At)
	if old, err := readList(file, strconv.Itoa(os.Geteuid())); err == nil {
		l.Before, l.BeforeAt = old.Rows, old.At
	}
	return ownfile.Write(file, func(w io.Writer) error { return json.NewEncoder(w).Encode(l) })
}

// LastList returns the list of a machine that was shown last. That is what is
// kept in the state folder, or in that of the person who became root for this
// call.
func LastList(folder, machine string) (List, error) {
	var last List
	for _, own := range []struct{ folder, uid string }{
		{folder, strconv.Itoa(os.Geteuid())}, sudoer(),
	} {
		if own.folder == "" {
			continue
		}
		l, err := readList(listFile(own.folder, machine), own.uid)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return last, fmt.Errorf("the last list of this machine cannot be read: %w", err)
		}
		if err == nil && l.At.After(last.At) {
			last = l
		}
	}
	if last.At.IsZero() {
		return last, ErrNoList
	}
	return last, nil
}

func listFile(folder, machine string) string {
	sum := sha256.Sum256([]byte(machine))
	return filepath.Join(folder, "lists", fmt.Sprintf("%x.json", sum[:16]))
}

// sudoer is the state folder and the number of who became root; nothing where
// nobody did.
func sudoer() (own struct{ folder, uid string }) {
	if os.Geteuid() != 0 {
		return own
	}
	if who, err := user.Lookup(os.Getenv("SUDO_USER")); err == nil {
		own.folder, own.uid = stateIn(who.HomeDir), who.Uid
	}
	return own
}

// readList reads a file that has to be a plain one of the given owner: a home
// may hold anything.
func readList(file, owner string) (l List, err error) {
	f, err := ownfile.Open(file, owner)
	if err != nil {
		return l, err
	}
	defer f.Close()
	return l, json.NewDecoder(io.LimitReader(f, mostBytes)).Decode(&l)
}

// forget removes lists that nobody will ask for any more.
func forget(folder string, now time.Time) {
	entries, _ := os.ReadDir(folder)
	for _, e := range entries {
		if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > listsKept {
			os.Remove(filepath.Join(folder, e.Name()))
		}
	}
}
