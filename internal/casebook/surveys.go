package casebook

import (
	"database/sql"
	"errors"
	"time"
)

// A Kept is a survey that was kept.
type Kept struct {
	Number   int64
	TakenAt  time.Time
	Document []byte // as AddSurvey was given it
}

// maxSurvey bounds a kept survey: a casebook may be a stranger's.
const maxSurvey = 64 << 20

// Survey returns a kept survey by its number, or the last one for 0; false
// where there is none.
func (b *Book) Survey(number int64) (Kept, bool, error) {
	var k Kept
	var at string
	err := b.get("SELECT id, taken_at, survey FROM surveys WHERE (id = ? OR ? = 0) AND "+
		"length(survey) < ? ORDER BY id DESC LIMIT 1", number, number, maxSurvey)(&k.Number, &at,
		&k.Document)
	if errors.Is(err, sql.ErrNoRows) {
		return k, false, nil
	}
	if err == nil {
		k.TakenAt, err = time.Parse(time.RFC3339Nano, at)
	}
	return k, err == nil, err
}

// Surveys lists the numbers and instants of the kept surveys, oldest first.
func (b *Book) Surveys() ([]Kept, error) {
	rows, err := b.query("SELECT id, taken_at FROM surveys ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Kept
	for rows.Next() {
		var k Kept
		var at string
		if err := rows.Scan(&k.Number, &at); err != nil {
			return nil, err
		}
		if k.TakenAt, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		all = append(all, k)
	}
	return all, rows.Err()
}

// AddSurvey keeps a survey, as the JSON document of calmdawn list --all --json,
// and returns its number.
func (b *Book) AddSurvey(at time.Time, document []byte) (n int64, err error) {
	err = b.transact(func(tx *sql.Tx) error {
		res, err := tx.Exec("INSERT INTO surveys(taken_at, survey) VALUES(?, ?)",
			at.UTC().Format(time.RFC3339Nano), document)
		if err != nil {
			return err
		}
		n, err = res.LastInsertId()
		return err
	})
	return n, err
}
