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
	// Change is the one after which it was kept; 0 where somebody asked for it.
	Change int64
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

// Surveys lists the kept surveys without their documents, oldest first.
func (b *Book) Surveys() ([]Kept, error) {
	change := "with_change"
	if b.format < 8 { // it is only read, and stays as it is
		change = "0"
	}
	rows, err := b.query("SELECT id, taken_at, " + change + " FROM surveys ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Kept
	for rows.Next() {
		var k Kept
		var at string
		if err := rows.Scan(&k.Number, &at, &k.Change); err != nil {
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
		n, err = addSurvey(tx, at, document, 0)
		return err
	})
	return n, err
}

// sameJob is how far the changes of one job lie apart at most.
const sameJob = 24 * time.Hour

// AddSurveyWith keeps the survey of a machine as a change left it. It stands in
// the place of the last one, if a change of the same job left that.
func (b *Book) AddSurveyWith(change int64, at time.Time, document []byte) error {
	return b.transact(func(tx *sql.Tx) error {
		var last, with int64
		var taken string
		err := tx.QueryRow("SELECT id, taken_at, with_change FROM surveys ORDER BY id DESC "+
			"LIMIT 1").Scan(&last, &taken, &with)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		when, bad := time.Parse(time.RFC3339Nano, taken)
		if with != 0 && bad == nil && at.Sub(when) < sameJob {
			_, err = tx.Exec("UPDATE surveys SET taken_at = ?, survey = ?, with_change = ? "+
				"WHERE id = ?", at.UTC().Format(time.RFC3339Nano), document, change, last)
			return err
		}
		_, err = addSurvey(tx, at, document, change)
		return err
	})
}

func addSurvey(tx *sql.Tx, at time.Time, document []byte, change int64) (int64, error) {
	res, err := tx.Exec("INSERT INTO surveys(taken_at, survey, with_change) VALUES(?, ?, ?)",
		at.UTC().Format(time.RFC3339Nano), document, change)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}
