package casebook

import (
	"bytes"
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"calmdawn/internal/core/boot"
)

// sortable is a form of instants whose texts sort as the instants do.
const sortable = "2006-01-02T15:04:05.000000000Z"

// Bounds on what is unpacked, in bytes: a casebook may be a stranger's.
const (
	maxBoot  = 32 << 20  // the record of one boot
	maxBoots = 128 << 20 // all that are read at once
)

// AddBoot keeps a recorded boot; one of the same id is replaced.
func (b *Book) AddBoot(recorded boot.Boot) error {
	text, err := bounded(recorded)
	if err != nil {
		return err
	}
	var packed bytes.Buffer
	w, err := zstd.NewWriter(&packed, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10),
		zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	_, err = w.Write(text)
	if err := errors.Join(err, w.Close()); err != nil {
		return err
	}
	return b.transact(func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT OR REPLACE INTO boots(boot_id, began, boot) VALUES(?, ?, ?)",
			recorded.ID, recorded.Began.UTC().Format(sortable), packed.Bytes())
		return err
	})
}

// bounded writes a record that can be read again. Where it would be too large,
// programs that used little have no courses, and a note says so.
func bounded(b boot.Boot) ([]byte, error) {
	for _, kept := range []int{math.MaxInt, 100, 0} {
		if kept < len(b.Programs) {
			if kept == 100 {
				b.Notes = append(slices.Clone(b.Notes), "the record would be too large: when "+
					"programs that used little did so is left out")
			}
			b.Programs = withoutCourses(b.Programs, kept)
		}
		if text, err := json.Marshal(b); err != nil || len(text) < maxBoot {
			return text, err
		}
	}
	return nil, errors.New("the record of the boot is too large to be kept")
}

// withoutCourses keeps the courses of those programs that used most.
func withoutCourses(programs []boot.Program, kept int) []boot.Program {
	programs = slices.Clone(programs)
	order := make([]int, len(programs))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(programs[b].CPU, programs[a].CPU)
	})
	for _, i := range order[kept:] {
		programs[i].Course = nil
	}
	return programs
}

// Boots returns the recorded boots, at most the last (0: all), oldest first.
// Those that cannot be read are left out, and the oldest where all together are
// too large; the error tells of them then.
func (b *Book) Boots(last int) ([]boot.Boot, error) {
	if last == 0 {
		last = -1
	}
	rows, err := b.query("SELECT boot_id, boot FROM boots ORDER BY began DESC LIMIT ?", last)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []boot.Boot
	var wrong []error
	left, id := int64(maxBoots), ""
	for rows.Next() {
		if left <= 0 {
			wrong = append(wrong, fmt.Errorf("the records that are older than the boot %.8s are "+
				"left out: all together are too large", id))
			break
		}
		var packed []byte
		if err := rows.Scan(&id, &packed); err != nil {
			return all, err
		}
		recorded, size, err := unpack(packed)
		left -= size
		if err == nil && (recorded.ID != id || len(id) != 32) {
			err = errors.New("it names another boot")
		}
		if err != nil {
			wrong = append(wrong, fmt.Errorf("the record of boot %.8s cannot be read: %w", id, err))
			continue
		}
		all = append(all, recorded)
	}
	slices.Reverse(all)
	return all, errors.Join(append(wrong, rows.Err())...)
}

// unpack returns a boot, and how many bytes its record has when it is unpacked.
func unpack(packed []byte) (b boot.Boot, size int64, err error) {
	r, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderMaxMemory(maxBoot))
	if err != nil {
		return b, 0, err
	}
	defer r.Close()
	bounded := &io.LimitedReader{R: r, N: maxBoot}
	err = json.NewDecoder(bounded).Decode(&b)
	return b, maxBoot - bounded.N, err
}

// BootsSince returns how many boots were recorded that began after an instant.
func (b *Book) BootsSince(at time.Time) (n int, err error) {
	err = b.get("SELECT count(*) FROM boots WHERE began > ?", at.UTC().Format(sortable))(&n)
	return n, err
}
