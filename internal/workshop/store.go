// Package workshop is a store of many machines: what they launch, what that
// costs, and what decisions brought. It is a database, SQLite or PostgreSQL,
// with the same tables and the same questions.
//
// It is never the book that undo works by: see package casebook.
// docs/workshop.md tells column by column what is kept.
package workshop

import (
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"calmdawn/internal/ownfile"
	"calmdawn/internal/workshop/postgres"
)

// A Store is an open workshop, for one goroutine. Close it after use.
type Store struct {
	db    *sql.DB
	salt  string
	Where string // for people; holds no password
	File  string // empty where it is on a server

	onlyAdds bool
	words    func(string) string // a statement as the engine takes it
	again    func(error) bool    // whether a transaction is to be tried again
}

// format is that of the tables.
const format = "1"

// tables are made in the words that both engines know. Keys are made by us, so
// that no sequence orders anything. Times are nanoseconds, amounts bytes,
// moments seconds since 1970.
const tables = `
CREATE TABLE IF NOT EXISTS fact(name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS machine(
	machine BIGINT PRIMARY KEY,
	identity BIGINT NOT NULL,
	hardware BIGINT NOT NULL,
	name TEXT NOT NULL,
	family TEXT NOT NULL,
	os TEXT NOT NULL,
	model TEXT NOT NULL,
	first BIGINT NOT NULL,
	taken BIGINT NOT NULL,
	added BIGINT NOT NULL,
	added_by TEXT NOT NULL,
	anonymous BIGINT NOT NULL,
	simulated BIGINT NOT NULL,
	ready BIGINT,
	usable BIGINT
);
CREATE INDEX IF NOT EXISTS machine_identity ON machine(identity);
CREATE TABLE IF NOT EXISTS item(
	item BIGINT PRIMARY KEY,
	family TEXT NOT NULL,
	kind TEXT NOT NULL,
	name TEXT NOT NULL,
	maker TEXT NOT NULL,
	title TEXT NOT NULL,
	role TEXT NOT NULL,
	find TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS launched(
	machine BIGINT NOT NULL,
	item BIGINT NOT NULL,
	owner TEXT NOT NULL,
	state TEXT NOT NULL,
	moment TEXT NOT NULL,
	advice TEXT NOT NULL,
	version TEXT NOT NULL,
	installed BIGINT,
	wait BIGINT,
	cpu BIGINT,
	disk_read BIGINT,
	memory BIGINT,
	PRIMARY KEY(machine, item, owner)
);
CREATE INDEX IF NOT EXISTS launched_item ON launched(item, state, machine, wait);
CREATE TABLE IF NOT EXISTS past(
	machine BIGINT NOT NULL,
	item BIGINT NOT NULL,
	owner TEXT NOT NULL,
	taken BIGINT NOT NULL,
	state TEXT NOT NULL,
	version TEXT NOT NULL,
	installed BIGINT,
	wait BIGINT,
	PRIMARY KEY(machine, item, owner, taken)
);
CREATE INDEX IF NOT EXISTS past_taken ON past(taken, item, machine);
CREATE TABLE IF NOT EXISTS boot(
	machine BIGINT NOT NULL,
	boot BIGINT NOT NULL,
	began BIGINT NOT NULL,
	ready BIGINT,
	usable BIGINT,
	kind TEXT NOT NULL,
	odd BIGINT NOT NULL,
	PRIMARY KEY(machine, boot)
);
CREATE TABLE IF NOT EXISTS decision(
	machine BIGINT NOT NULL,
	change BIGINT NOT NULL,
	item BIGINT NOT NULL,
	verb TEXT NOT NULL,
	made BIGINT NOT NULL,
	undone BIGINT,
	others BIGINT NOT NULL,
	figure TEXT NOT NULL,
	saved BIGINT,
	PRIMARY KEY(machine, change, item)
);
CREATE TABLE IF NOT EXISTS inbox(
	delivery TEXT PRIMARY KEY,
	sent_by TEXT NOT NULL DEFAULT CURRENT_USER,
	document TEXT NOT NULL
);
CREATE INDEX IF NOT EXISTS decision_item ON decision(item, verb, machine, saved, undone, others);
`

// ErrNone is the error of a workshop that was never added to.
var ErrNone = errors.New("there is no workshop yet")

// Open opens a workshop: the name of a file, or a database of PostgreSQL as
// postgres://USER@HOST/DATABASE. With make it is made where it is missing;
// without, the error is [ErrNone] then.
func Open(where string, make bool) (*Store, error) {
	open := openFile
	if IsServer(where) {
		open = openServer
	}
	s, err := open(where, make)
	if err != nil {
		return nil, err
	}
	if err := s.prepare(make); err != nil {
		s.db.Close()
		return nil, fmt.Errorf("the workshop %s cannot be used: %w", s.Where, err)
	}
	return s, nil
}

// IsServer reports whether a workshop is on a server, and no file.
func IsServer(where string) bool {
	return strings.HasPrefix(where, "postgres://") || strings.HasPrefix(where, "postgresql://")
}

func openServer(where string, _ bool) (*Store, error) {
	if u, err := url.Parse(where); err == nil {
		if _, given := u.User.Password(); given || u.Query().Has("password") {
			return nil, errors.New("the workshop's name holds a password, which others could " +
				"read in the list of processes; put it into the password file (.pgpass), or " +
				"into PGPASSWORD")
		}
	}
	db, shown, err := postgres.Open(where)
	if err != nil {
		return nil, fmt.Errorf("the workshop cannot be used: %w", err)
	}
	db.SetMaxOpenConns(1)
	return &Store{db: db, Where: shown, words: postgres.Words, again: postgres.Again}, nil
}

func openFile(where string, make bool) (*Store, error) {
	if _, err := os.Stat(where); err != nil && !make {
		return nil, fmt.Errorf("%s: %w", where, ErrNone)
	}
	if err := otherDatabase(where); err != nil {
		return nil, err
	}
	if make {
		if _, err := ownfile.Secure(where); err != nil {
			return nil, fmt.Errorf("the workshop cannot be kept there (%w); name another file, "+
				"in a folder that is there", err)
		}
	}
	settings := url.Values{"_pragma": {
		"busy_timeout(10000)", "trusted_schema(off)", "cell_size_check(on)", "foreign_keys(on)",
		"synchronous(normal)", "cache_size(-65536)",
	}}
	if make {
		settings.Set("_txlock", "immediate")
	}
	address := url.URL{
		Scheme: "file", Opaque: (&url.URL{Path: filepath.Clean(where)}).EscapedPath(),
		RawQuery: settings.Encode(),
	}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return &Store{
		db: db, Where: where, File: where,
		words: func(words string) string { // it has no users
			return strings.ReplaceAll(words, "CURRENT_USER", "''")
		},
		again: func(error) bool { return false }, // it waits for others by itself
	}, nil
}

// otherDatabase refuses a file that is there and no workshop, before anything
// is written to it. A casebook with our tables in it would be of no use, and
// undo needs it.
func otherDatabase(file string) error {
	info, err := os.Stat(file)
	if err != nil || info.Size() == 0 {
		return nil // it is made
	}
	refused := fmt.Errorf("%s is there already, and is no workshop; name another file", file)
	address := url.URL{
		Scheme: "file", Opaque: (&url.URL{Path: filepath.Clean(file)}).EscapedPath(),
		RawQuery: url.Values{
			"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "trusted_schema(off)"},
		}.Encode(),
	}
	db, err := sql.Open("sqlite", address.String())
	if err != nil || !info.Mode().IsRegular() {
		return refused
	}
	defer db.Close()
	var all, ours int
	err = db.QueryRow("SELECT count(*), count(CASE WHEN name IN ('fact', 'launched') THEN 1 END) "+
		"FROM sqlite_schema").Scan(&all, &ours)
	if err != nil {
		return fmt.Errorf("%w (%w)", refused, err)
	}
	if all > 0 && ours != 2 {
		return refused
	}
	return nil
}

// Close closes the workshop.
func (s *Store) Close() error { return s.db.Close() }

// prepare makes the tables where they are missing, and reads the salt.
func (s *Store) prepare(make bool) error {
	var found string
	read := func() error {
		return s.db.QueryRow("SELECT value FROM fact WHERE name = 'format'").Scan(&found)
	}
	err := read()
	if err != nil && make && !postgres.Unreached(err) {
		if err := s.transact(s.makeTables); err != nil {
			return err
		}
		err = read()
	}
	switch {
	case postgres.Missing(err):
		return ErrNone
	case postgres.Unreached(err):
		return fmt.Errorf("its server cannot be reached, or does not let this user in (%w)", err)
	}
	if err != nil {
		return fmt.Errorf("it is no workshop of calmdawn (%w)", err)
	}
	if found != format {
		return fmt.Errorf("it was made by a newer calmdawn (format %s, this one knows %s); use "+
			"that one", found, format)
	}
	if s.File == "" {
		var may int
		if err := s.db.QueryRow("SELECT CASE WHEN has_table_privilege('launched', 'INSERT') " +
			"THEN 1 ELSE 0 END").Scan(&may); err != nil {
			return err
		}
		s.onlyAdds = may == 0
	}
	return s.db.QueryRow("SELECT value FROM fact WHERE name = 'salt'").Scan(&s.salt)
}

func (s *Store) makeTables(tx *sql.Tx) error {
	for words := range strings.SplitSeq(tables, ";\n") {
		if strings.TrimSpace(words) == "" {
			continue
		}
		if _, err := tx.Exec(s.words(words)); err != nil {
			return err
		}
	}
	_, err := tx.Exec("INSERT INTO fact(name, value) VALUES('format', $1), ('salt', $2) "+
		"ON CONFLICT DO NOTHING", format, rand.Text())
	return err
}

// key hashes what may tell of a person or a machine, with the store's own salt:
// the beginning of a SHA-256 (FIPS 180-4), never negative.
func (s *Store) key(parts ...string) int64 {
	sum := sha256.Sum256([]byte(s.salt + "\x00" + strings.Join(parts, "\x00")))
	return int64(binary.BigEndian.Uint64(sum[:]) >> 1)
}

// tries is how often a transaction is tried that others got in the way of.
const tries = 8

// transact does something whole or not at all. It may be done several times,
// each time from the beginning.
func (s *Store) transact(do func(*sql.Tx) error) error {
	err := s.once(do)
	for n := 1; n < tries && err != nil && s.again(err); n++ {
		err = s.once(do)
	}
	return err
}

func (s *Store) once(do func(*sql.Tx) error) error {
	tx, err := s.db.Begin()
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		tx.Rollback()
		return err
	}
	return tx.Commit()
}
