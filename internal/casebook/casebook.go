// Package casebook is the store of one machine: its changes, and room for its
// boots, surveys and forecasts.
//
// It is a SQLite file, by default inside the machine. What is in it when a call
// returns is on the disk. A casebook found on a foreign disk is not trusted: it
// is opened through the confined root, checked, and bound to the machine's id.
package casebook

import (
	"cmp"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"

	"modernc.org/sqlite" // and the driver "sqlite"

	"calmdawn/internal/machine"
	"calmdawn/internal/ownfile"
)

// Name is the casebook's file in its folder of the [machine.Home]. GuideName is
// the text beside it that tells how the changes in force are taken back by
// hand.
const (
	Name      = "casebook.db"
	GuideName = "how-to-take-back.txt"
)

// A Choice says which casebook of a machine is meant.
type Choice struct {
	File        string // one outside the machine; empty for the one inside
	ThisMachine bool   // it is the machine's, although it was kept under another machine id
}

// Inside is the casebook inside the machine.
var Inside Choice

// ErrNone is returned where a machine has no casebook yet.
var ErrNone = errors.New("this machine has no casebook yet")

// errNoHome tells of a machine whose [machine.Home] nobody has set.
var errNoHome = errors.New("where this machine's casebook stands is not known")

// A Book is an open casebook, for one goroutine. What it returns is the
// caller's. Each of its writing methods is one transaction: after an error
// nothing of it is there. Close it after use.
type Book struct {
	db      *sql.DB
	release func() error
	format  int
	// Where names the file for people.
	Where string
	// Token tells this casebook from every other one.
	Token string
	// Warnings are what people should know of it, a sentence each.
	Warnings []string
}

// Read opens the machine's casebook for reading; it writes nothing and creates
// nothing. Without one, the error is [ErrNone].
//
// What a stop left half written in it is rolled back in a private copy.
func Read(r *machine.Root, c Choice) (*Book, error) {
	at, err := locate(r, c)
	if err != nil {
		at.release()
		if errors.Is(err, fs.ErrPermission) {
			return nil, fmt.Errorf("the casebook cannot be read; run this as root: %w", err)
		}
		return nil, err
	}
	return at.read(r)
}

// ReadForeign opens a casebook that may be of another machine, for reading.
func ReadForeign(file string) (*Book, error) {
	at, err := locate(nil, Choice{File: file})
	if err != nil {
		if errors.Is(err, ErrNone) {
			err = fs.ErrNotExist
		}
		return nil, fmt.Errorf("the casebook %s cannot be read; give the file of one: %w", file,
			err)
	}
	return at.read(nil)
}

func (at place) read(r *machine.Root) (*Book, error) {
	b, err := at.open(r, url.Values{"mode": {"ro"}}, false)
	switch {
	case isHot(err):
		copied, copyErr := at.copy()
		at.release()
		if copyErr != nil {
			return nil, fmt.Errorf("the casebook %s was left half written, and cannot be put "+
				"right in a copy: %w", at.where, copyErr)
		}
		return copied.open(r, url.Values{"mode": {"rw"}}, false)
	case err != nil && !errors.Is(err, ErrNone) && at.readOnly(r) && at.journalSize() <= 0:
		// Where no locks can be taken at all, nobody writes either.
		b, err = at.open(r, url.Values{"mode": {"ro"}, "immutable": {"1"}}, false)
	}
	if err != nil {
		at.release()
	}
	return b, err
}

// Write opens the machine's casebook for writing, and makes it if it is
// missing. What a stop left half written is rolled back. Who makes edits too
// holds the machine's lock; the rest of a casebook is written without it.
func Write(r *machine.Root, c Choice) (*Book, error) {
	exposed := false
	var err error
	if c.File == "" {
		err = makeFolder(r)
	} else {
		exposed, err = ownfile.Secure(c.File)
	}
	if err != nil && c.File == "" {
		return nil, noPlace(r, err)
	}
	if err != nil {
		return nil, fmt.Errorf("the casebook cannot be kept there: %w", err)
	}
	at, err := locate(r, c)
	if err != nil && !errors.Is(err, ErrNone) {
		at.release()
		if errors.Is(err, fs.ErrPermission) {
			err = noPlace(r, err)
		}
		return nil, err
	}
	b, err := at.open(r, url.Values{"mode": {"rwc"}}, true)
	if err == nil && c.File == "" {
		err = r.Hide(path.Join(r.Home.Casebook, Name))
	}
	if err != nil {
		at.release()
		return nil, err
	}
	if exposed {
		b.Warnings = append(b.Warnings, fmt.Sprintf("Others may read the casebook %s, in which "+
			"private files of the machine can stand: its file system keeps no modes.", c.File))
	}
	return b, nil
}

// Barred says why the casebook of a machine could not be written; nil where it
// can. It writes nothing.
func Barred(r *machine.Root, c Choice) error {
	file := c.File
	if file == "" {
		if err := r.MayWrite(r.Home.Casebook); err != nil {
			return noPlace(r, err)
		}
		return nil
	}
	err := mayWrite(file)
	if errors.Is(err, fs.ErrNotExist) {
		err = mayWrite(filepath.Dir(file))
	}
	if err != nil {
		return fmt.Errorf("the casebook %s cannot be written (%w), so nothing was changed; name "+
			"another place with --casebook FILE", file, err)
	}
	return nil
}

func noPlace(r *machine.Root, err error) error {
	return fmt.Errorf("the casebook cannot be kept in this machine (%s: %s), so nothing was "+
		"changed; make the disk writable, run this as root, or name another place with "+
		"--casebook FILE", r.Home.Casebook, machine.Reason(err))
}

// makeFolder makes the casebook's folder, and those above it that are missing.
func makeFolder(r *machine.Root) error {
	folder := r.Home.Casebook
	if folder == "" {
		return errNoHome
	}
	there := folder // or what is there above it
	if _, err := r.Stat(folder); err != nil {
		there = path.Dir(folder)
	}
	if r.ReadOnly(there) {
		return &machine.Refusal{Path: folder, Reason: "the disk is read-only"}
	}
	var missing []string
	for p := folder; p != "/" && p != "."; p = path.Dir(p) {
		missing = append([]string{p}, missing...)
	}
	for _, p := range missing {
		if _, err := r.Stat(p); !errors.Is(err, fs.ErrNotExist) {
			continue
		}
		parent, err := r.Resolve(path.Dir(p))
		if err != nil {
			return err
		}
		mode := uint32(0o755)
		if p == folder {
			mode = 0o700 // it holds copies of what was edited, private files among them
		}
		if err := r.MakeFolder(path.Join(parent, path.Base(p)), "", mode); err != nil {
			return err
		}
	}
	return nil
}

// A place is where a casebook stands.
type place struct {
	file        string // as SQLite can open it
	where       string // for people
	outside     bool   // it is not inside the machine
	thisMachine bool   // as of the choice
	release     func() error
}

// locate finds the casebook, as far as it may be opened at all. Where only the
// file is missing, the error is ErrNone and the place is whole. The place is to
// be released in any case.
func locate(r *machine.Root, c Choice) (place, error) {
	file := c.File
	at := place{
		file:        filepath.Clean(file),
		where:       file,
		outside:     true,
		thisMachine: c.ThisMachine,
		release:     func() error { return nil },
	}
	if file != "" {
		info, err := os.Stat(file)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return at, ErrNone
		case err != nil:
			return at, err
		case !info.Mode().IsRegular():
			return at, fmt.Errorf("%s is not a regular file; a casebook is one", file)
		}
		if info, err := os.Lstat(at.journal()); err == nil && !info.Mode().IsRegular() {
			return at, fmt.Errorf("%s is not a regular file, and would be written to; remove it",
				at.journal())
		}
		return at, at.checkJournal()
	}
	if r.Home.Casebook == "" {
		return at, errNoHome
	}
	at.where, at.outside = path.Join(r.Home.Casebook, Name), false
	dir, release, err := r.Handle(r.Home.Casebook)
	if errors.Is(err, fs.ErrNotExist) {
		return at, ErrNone
	}
	if err != nil {
		return at, fmt.Errorf("the casebook cannot be reached: %w", err)
	}
	at.release, at.file = release, dir+"/"+Name
	var missing error
	for _, name := range []string{Name, Name + "-journal"} {
		info, err := r.Lstat(path.Join(r.Home.Casebook, name))
		switch {
		case errors.Is(err, fs.ErrNotExist) && name == Name:
			missing = ErrNone
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return at, err
		case info.Kind != machine.Regular:
			return at, &machine.Refusal{
				Path:   path.Join(r.Home.Casebook, name),
				Reason: "is " + info.Kind.String() + " where the casebook is expected; not opened",
			}
		}
	}
	return at, errors.Join(missing, at.checkJournal())
}

// Exists reports whether the machine has a casebook there, as far as can be
// seen.
func Exists(r *machine.Root, c Choice) bool {
	at, err := locate(r, c)
	at.release()
	return !errors.Is(err, ErrNone)
}

func (at place) readOnly(r *machine.Root) bool {
	if !at.outside {
		return r.ReadOnly(r.Home.Casebook)
	}
	return mayWrite(at.file) != nil
}

func (at place) open(r *machine.Root, settings url.Values, write bool) (*Book, error) {
	settings["_pragma"] = []string{
		"busy_timeout(5000)",
		"trusted_schema(off)",
		"cell_size_check(on)",
		"foreign_keys(on)",
	}
	if write {
		// it holds copies of what was edited; SQLite makes its journal like it
		if _, err := ownfile.Secure(at.file); err != nil {
			return nil, err
		}
		settings["_pragma"] = append(settings["_pragma"], "journal_mode(delete)",
			"synchronous(extra)")
		settings.Set("_txlock", "immediate")
	}
	address := url.URL{
		Scheme:   "file",
		Opaque:   (&url.URL{Path: at.file}).EscapedPath(),
		RawQuery: settings.Encode(),
	}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	b := &Book{db: db, release: at.release, Where: at.where}
	if err := b.prepare(r, write, at.thisMachine); err != nil {
		db.Close()
		return nil, fmt.Errorf("the casebook %s cannot be used: %w", at.where, err)
	}
	return b, nil
}

// Results of SQLite, https://sqlite.org/rescode.html.
const (
	resultBusy    = 5
	resultLocked  = 6
	resultCorrupt = 11
	resultNotDB   = 26
)

// unreadable says why nothing of a casebook can be read, and what to do. Only
// one whose damage was read is called damaged: to replace another would lose
// what undo needs.
func unreadable(err error) error {
	of := (*sqlite.Error)(nil)
	if !errors.As(err, &of) {
		return fmt.Errorf("it cannot be read (%w); it may be whole: call again", err)
	}
	switch of.Code() & 0xFF {
	case resultBusy, resultLocked:
		return fmt.Errorf("another call, or a program that has it open, is writing to it (%w); "+
			"wait until that is done, then call again", err)
	case resultCorrupt, resultNotDB:
		return fmt.Errorf("it is damaged, or no casebook (%w); keep it, since it may hold what "+
			"undo needs: %s beside it tells how changes are taken back by hand; restore it from "+
			"a backup, or keep further changes elsewhere with --casebook FILE", err, GuideName)
	}
	return fmt.Errorf("it cannot be read (%w); it may be whole: see to its disk, then call again",
		err)
}

// Close closes the casebook.
func (b *Book) Close() error { return errors.Join(b.db.Close(), b.release()) }

// prepare checks whose the casebook is, and brings its tables up to date when
// it may write.
func (b *Book) prepare(r *machine.Root, write, thisMachine bool) error {
	if err := b.get("PRAGMA user_version")(&b.format); err != nil {
		return unreadable(err)
	}
	switch {
	case b.format > len(migrations):
		return fmt.Errorf("it was written by a newer calmdawn (format %d, this one knows %d); "+
			"use that one", b.format, len(migrations))
	case b.format == 0 && !write:
		return ErrNone
	}
	if err := b.check(); err != nil {
		return err
	}
	if r == nil {
		return nil
	}
	id := MachineID(r)
	if write {
		if err := b.migrate(id); err != nil {
			return err
		}
	}
	if err := b.get("SELECT value FROM facts WHERE name = 'casebook'")(
		&b.Token,
	); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	var owner string
	if err := b.get("SELECT value FROM facts WHERE name = 'machine'")(&owner); err != nil {
		return fmt.Errorf("it does not say whose it is: %w", err)
	}
	// it was begun before the machine's first boot, which gives it its id
	if owner == NoID && id != NoID {
		if write {
			_, err := b.db.Exec("UPDATE facts SET value = ? WHERE name = 'machine'", id)
			return err
		}
		return nil
	}
	if owner == id {
		return nil
	}
	if !thisMachine {
		return fmt.Errorf("it belongs to another machine (id %s, this one is %s); if it is this "+
			"machine's, and the id was changed or cannot be read, give --this-machine",
			short(owner), short(id))
	}
	b.Warnings = append(b.Warnings, fmt.Sprintf("The casebook was kept under another machine id "+
		"(%s, and now it is %s); it is used as you say.", short(owner), short(id)))
	if write && id != NoID {
		_, err := b.db.Exec("UPDATE facts SET value = ? WHERE name = 'machine'", id)
		return err
	}
	return nil
}

// NoID stands for the id of a machine that has none yet.
const NoID = "none"

// MachineID returns the machine's id; [NoID] where it has none.
func MachineID(r *machine.Root) string {
	if r.Home.ID == nil {
		return NoID
	}
	return cmp.Or(r.Home.ID(r), NoID)
}

// short is the beginning of an id, by which people tell it from others.
func short(id string) string {
	const enough = 8
	if len(id) <= enough+4 {
		return id
	}
	return id[:enough] + "…"
}

func (b *Book) transact(do func(*sql.Tx) error) error {
	tx, err := b.db.Begin()
	if err != nil {
		return fmt.Errorf("the casebook %s takes no record: %w", b.Where, err)
	}
	if err := do(tx); err != nil {
		tx.Rollback()
		return fmt.Errorf("the casebook %s takes no record: %w", b.Where, err)
	}
	return tx.Commit()
}

// Machine is the id of the machine whose casebook it is; [NoID] where it was
// begun before that had one.
func (b *Book) Machine() (id string, err error) {
	err = b.get("SELECT value FROM facts WHERE name = 'machine'")(&id)
	return id, err
}
