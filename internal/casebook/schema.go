package casebook

import (
	"database/sql"
	"fmt"
)

// migrations bring the tables from one format to the next; format N is what the first N leave. A migration that has
// landed is never changed. docs/formats.md explains the tables.
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
}

func (b *Book) migrate(version int) error {
	return b.transact(func(tx *sql.Tx) error {
		if _, err := tx.Exec(migrations[version]); err != nil {
			return fmt.Errorf("bringing it to format %d: %w", version+1, err)
		}
		_, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version+1))
		return err
	})
}
