package casebook

import (
	"database/sql"
	"encoding/json"

	"calmdawn/internal/core/change"
)

// Before format 2, a casebook kept no outcomes and no labels.
const formatOfLabels = 2

// SetOutcome keeps what became of a change's forecast, in place of what was kept before.
func (b *Book) SetOutcome(id int64, o change.Outcome) error {
	document, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return b.transact(func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT OR REPLACE INTO outcomes(change, outcome) VALUES(?, ?)", id, document)
		return err
	})
}

func (b *Book) outcomes() (map[int64]*change.Outcome, error) {
	all := map[int64]*change.Outcome{}
	if b.format < formatOfLabels {
		return all, nil
	}
	rows, err := b.db.Query("SELECT change, outcome FROM outcomes")
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
		var o change.Outcome
		if err := json.Unmarshal(document, &o); err != nil {
			return nil, err
		}
		all[id] = &o
	}
	return all, rows.Err()
}

// Label gives boots a label, in place of the one they had; an empty one takes it away.
func (b *Book) Label(ids []string, label string) error {
	return b.transact(func(tx *sql.Tx) error {
		for _, id := range ids {
			var err error
			if label == "" {
				_, err = tx.Exec("DELETE FROM labels WHERE boot_id = ?", id)
			} else {
				_, err = tx.Exec("INSERT OR REPLACE INTO labels(boot_id, label) VALUES(?, ?)", id, label)
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
	rows, err := b.db.Query("SELECT boot_id, label FROM labels")
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
