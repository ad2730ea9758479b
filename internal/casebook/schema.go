package casebook

import (
	"crypto/rand"
	"database/sql"
	"fmt"
)

// migrations bring the tables from one format to the next; format N is what the
// first N leave. A migration that has landed is never changed. docs/formats.md
// explains the tables.
var migrations = []string{
	`CREATE TABLE facts(name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT;
	CREATE TABLE changes(
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		verb TEXT NOT NULL,
		status TEXT NOT NULL,
		made_at TEXT NOT NULL,
		made_by TEXT NOT NULL,
		targets BLOB NOT NULL,
		undoes INTEGER NOT NULL DEFAULT 0,
		undone_by INTEGER NOT NULL DEFAULT 0,
		forecast BLOB
	) STRICT;
	CREATE TABLE edits(
		change INTEGER NOT NULL REFERENCES changes(id),
		step INTEGER NOT NULL,
		path TEXT NOT NULL,
		folder TEXT NOT NULL,
		home TEXT NOT NULL,
		before BLOB NOT NULL,
		after BLOB NOT NULL,
		PRIMARY KEY(change, step)
	) STRICT;
	CREATE INDEX edits_by_path ON edits(path);
	CREATE TABLE folders(
		path TEXT PRIMARY KEY,
		home TEXT NOT NULL,
		made INTEGER NOT NULL,
		time_before INTEGER NOT NULL,
		time_left INTEGER NOT NULL
	) STRICT;
	CREATE TABLE surveys(
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		taken_at TEXT NOT NULL,
		survey BLOB NOT NULL
	) STRICT;
	CREATE TABLE boots(
		boot_id TEXT PRIMARY KEY,
		began TEXT NOT NULL,
		boot BLOB NOT NULL
	) STRICT;`,
	`CREATE TABLE outcomes(
		change INTEGER PRIMARY KEY REFERENCES changes(id),
		outcome BLOB NOT NULL
	) STRICT;
	CREATE TABLE labels(
		boot_id TEXT PRIMARY KEY,
		label TEXT NOT NULL
	) STRICT;`,
	`CREATE TABLE terms(
		change INTEGER PRIMARY KEY REFERENCES changes(id),
		terms BLOB NOT NULL
	) STRICT;`,
	`CREATE TABLE settlements(
		change INTEGER PRIMARY KEY REFERENCES changes(id),
		settlement BLOB NOT NULL
	) STRICT;
	CREATE TABLE guard(
		id INTEGER PRIMARY KEY CHECK(id = 1),
		state BLOB NOT NULL
	) STRICT;`,
	// the same tables: changes may be of the verb "decide" from here on
	`SELECT 1`,
	// at which folders above an edited path file systems were mounted
	`CREATE TABLE mounts(
		change INTEGER NOT NULL,
		step INTEGER NOT NULL,
		points BLOB NOT NULL,
		PRIMARY KEY(change, step)
	) STRICT;`,
	// what stood in a file where a change has overwritten it
	`CREATE TABLE parts(
		change INTEGER NOT NULL REFERENCES changes(id),
		path TEXT NOT NULL,
		place INTEGER NOT NULL,
		data BLOB NOT NULL,
		PRIMARY KEY(change, path, place)
	) STRICT;`,
	// with which change a survey was kept; 0 for one that somebody asked for
	`ALTER TABLE surveys ADD COLUMN with_change INTEGER NOT NULL DEFAULT 0`,
}

// migrate brings the tables up to date and binds a new casebook to the machine,
// all at once. A stop leaves the old format or the new one.
func (b *Book) migrate(machineID string) error {
	if b.format == len(migrations) {
		return nil
	}
	return b.transact(func(tx *sql.Tx) error {
		// Somebody else may have done it since the format was read.
		if err := tx.QueryRow("PRAGMA user_version").Scan(&b.format); err != nil {
			return err
		}
		for ; b.format < len(migrations); b.format++ {
			if _, err := tx.Exec(migrations[b.format]); err != nil {
				return fmt.Errorf("bringing it to format %d: %w", b.format+1, err)
			}
		}
		if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", b.format)); err != nil {
			return err
		}
		_, err := tx.Exec("INSERT OR IGNORE INTO facts(name, value) VALUES('machine', ?), "+
			"('casebook', ?)", machineID, rand.Text())
		return err
	})
}
