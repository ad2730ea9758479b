package casebook

import (
	"database/sql"
	"encoding/json"
	"errors"

	"calmdawn/internal/core/change"
)

// Before these formats, a casebook kept no labels and outcomes, no terms, and
// neither settlements nor the guard's state.
const (
	formatOfLabels      = 2
	formatOfTerms       = 3
	formatOfSettlements = 4
	formatOfMounts      = 6
	formatOfParts       = 7
)

// SetOutcome keeps what became of a change's forecast, in place of what was
// kept before.
func (b *Book) SetOutcome(id int64, o change.Outcome) error {
	return b.transact(func(tx *sql.Tx) error { return put(tx, "outcome", id, o) })
}

// UpdateTerms changes the terms of the changes with the given numbers, of all
// or of none. What somebody else changes at the same time stays.
func (b *Book) UpdateTerms(ids []int64, update func(*change.Terms)) error {
	return b.transact(func(tx *sql.Tx) error {
		for _, id := range ids {
			var document []byte
			var t change.Terms
			err := tx.QueryRow("SELECT terms FROM terms WHERE change = ?", id).Scan(&document)
			if err == nil {
				err = json.Unmarshal(document, &t)
			}
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			update(&t)
			if err := put(tx, "terms", id, t); err != nil {
				return err
			}
		}
		return nil
	})
}

// tables are where a document a change is kept, by the name of its column.
var tables = map[string]string{"outcome": "outcomes", "terms": "terms", "settlement": "settlements"}

func put(tx *sql.Tx, what string, id int64, value any) error {
	document, err := json.Marshal(value)
	if err != nil {
		return err
	}
	_, err = tx.Exec("INSERT OR REPLACE INTO "+tables[what]+"(change, "+what+") VALUES(?, ?)", id,
		document)
	return err
}

// documents reads what put wrote, by the numbers of changes; nothing where the
// casebook is of an older format.
func documents[T any](b *Book, what string, format int) (map[int64]*T, error) {
	all := map[int64]*T{}
	if b.format < format {
		return all, nil
	}
	rows, err := b.query("SELECT change, " + what + " FROM " + tables[what])
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var document []byte
		if err := rows.Scan(&id, &document); err != nil {
			return nil, err
		}
		value := new(T)
		if err := json.Unmarshal(document, value); err != nil {
			return nil, err
		}
		all[id] = value
	}
	return all, rows.Err()
}

// Label gives boots a label, in place of the one they had; an empty one takes
// it away.
func (b *Book) Label(ids []string, label string) error {
	return b.transact(func(tx *sql.Tx) error {
		for _, id := range ids {
			var err error
			if label == "" {
				_, err = tx.Exec("DELETE FROM labels WHERE boot_id = ?", id)
			} else {
				_, err = tx.Exec("INSERT OR REPLACE INTO labels(boot_id, label) VALUES(?, ?)", id,
					label)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// Labels returns the labels of boots, by their ids.
func (b *Book) Labels() (map[string]string, error) {
	all := map[string]string{}
	if b.format < formatOfLabels {
		return all, nil
	}
	rows, err := b.query("SELECT boot_id, label FROM labels")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id, label string
		if err := rows.Scan(&id, &label); err != nil {
			return nil, err
		}
		all[id] = label
	}
	return all, rows.Err()
}
