package casebook

import (
	"database/sql"
	"encoding/json"
	"errors"

	"calmdawn/internal/core/failures"
)

// maxGuard bounds the guard's state: a casebook may be a stranger's.
const maxGuard = 1 << 20

// Guard returns what the boot guard remembers; nothing where there is none.
func (b *Book) Guard() (s failures.State, err error) {
	if b.format < formatOfSettlements {
		return s, nil
	}
	return guardState(b.db)
}

// UpdateGuard changes what the boot guard remembers, and has it on the disk
// when it returns.
func (b *Book) UpdateGuard(update func(*failures.State)) error {
	return b.transact(func(tx *sql.Tx) error {
		s, err := guardState(tx)
		if err != nil {
			return err
		}
		update(&s)
		text, err := json.Marshal(s)
		if err != nil {
			return err
		}
		_, err = tx.Exec("INSERT OR REPLACE INTO guard(id, state) VALUES(1, ?)", text)
		return err
	})
}

func guardState(from interface {
	QueryRow(string, ...any) *sql.Row
}) (s failures.State, err error) {
	var text []byte
	err = from.QueryRow("SELECT state FROM guard WHERE id = 1 AND length(state) < ?",
		maxGuard).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return s, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	return s, err
}
