// Package postgres lets database/sql speak to PostgreSQL, with results as text:
// whole numbers, texts and nothing else. It is a thin layer over pgconn, since
// a workshop needs no other types.
package postgres

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// Types of results, as the server numbers them (pg_type.dat): whole numbers of
// eight, four and two bytes, and those without bounds.
const (
	int8OID    = 20
	int2OID    = 21
	int4OID    = 23
	numericOID = 1700
)

// Codes of errors after which a transaction is to be tried again,
// https://www.postgresql.org/docs/15/errcodes-appendix.html.
const (
	serialization = "40001" // it could not be put in an order with others
	deadlock      = "40P01"
	unique        = "23505" // somebody else added the same key
)

// Again reports whether an error is one after which the whole transaction is to
// be tried again.
func Again(err error) bool {
	of := (*pgconn.PgError)(nil)
	return errors.As(err, &of) &&
		(of.Code == serialization || of.Code == deadlock || of.Code == unique)
}

// Missing reports whether an error says that a table is not there.
func Missing(err error) bool {
	const undefinedTable = "42P01"
	of := (*pgconn.PgError)(nil)
	return errors.As(err, &of) && of.Code == undefinedTable
}

// Unreached reports whether an error says that no connection came about.
func Unreached(err error) bool { return errors.As(err, new(*pgconn.ConnectError)) }

// Open opens the database that a text names: postgres://… or keywords, as in
// https://www.postgresql.org/docs/15/libpq-connect.html. A password is from the
// password file or the environment; TLS is as the text says. where names the
// database for people.
func Open(text string) (db *sql.DB, where string, err error) {
	config, err := pgconn.ParseConfig(text)
	if err != nil {
		return nil, "", errors.New("it names no database of PostgreSQL; such a name is " +
			"postgres://USER@HOST/DATABASE")
	}
	config.RuntimeParams["jit"] = "off" // it costs more than these questions take
	config.RuntimeParams["application_name"] = "calmdawn"
	config.RuntimeParams["search_path"] = "public"
	where = fmt.Sprintf("%s on %s", config.Database, config.Host)
	return sql.OpenDB(connector{config}), where, nil
}

type connector struct{ config *pgconn.Config }

func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	pg, err := pgconn.ConnectConfig(ctx, c.config.Copy())
	if err != nil {
		return nil, err
	}
	return &conn{pg: pg}, nil
}

func (connector) Driver() driver.Driver { return nil }

// A conn is one connection, for one goroutine.
type conn struct {
	pg    *pgconn.PgConn
	names int // of statements that were prepared
}

func (c *conn) Close() error { return c.pg.Close(context.Background()) }

func (c *conn) run(ctx context.Context, words string) error {
	_, err := c.pg.Exec(ctx, words).ReadAll()
	return err
}

// Begin begins a transaction that reads one state of the database throughout.
func (c *conn) Begin() (driver.Tx, error) {
	return tx{c}, c.run(context.Background(), "BEGIN ISOLATION LEVEL REPEATABLE READ")
}

type tx struct{ c *conn }

func (t tx) Commit() error   { return t.c.run(context.Background(), "COMMIT") }
func (t tx) Rollback() error { return t.c.run(context.Background(), "ROLLBACK") }

func (c *conn) Prepare(words string) (driver.Stmt, error) {
	ctx := context.Background()
	c.names++
	s := &stmt{c: c, name: "s" + strconv.Itoa(c.names)}
	described, err := c.pg.Prepare(ctx, s.name, words, nil)
	if err == nil {
		s.params = len(described.ParamOIDs)
	}
	return s, err
}

// A stmt is a prepared statement.
type stmt struct {
	c      *conn
	name   string
	params int
}

func (s *stmt) Close() error {
	if s.c.pg.IsClosed() {
		return nil
	}
	return s.c.pg.Deallocate(context.Background(), s.name)
}

func (s *stmt) NumInput() int { return s.params }

// start runs the statement.
func (s *stmt) start(values []driver.Value) (*pgconn.ResultReader, error) {
	texts := make([][]byte, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case nil:
		case int64:
			texts[i] = strconv.AppendInt(nil, v, 10)
		case string:
			texts[i] = append([]byte{}, v...)
		default:
			return nil, fmt.Errorf("a workshop has no values of type %T", v)
		}
	}
	return s.c.pg.ExecPrepared(context.Background(), s.name, texts, nil, nil), nil
}

func (s *stmt) Exec(values []driver.Value) (driver.Result, error) {
	r, err := s.start(values)
	if err != nil {
		return nil, err
	}
	tag, err := r.Close()
	return driver.RowsAffected(tag.RowsAffected()), err
}

func (s *stmt) Query(values []driver.Value) (driver.Rows, error) {
	r, err := s.start(values)
	if err != nil {
		return nil, err
	}
	return &rows{r}, nil
}

type rows struct{ r *pgconn.ResultReader }

func (r *rows) Columns() (names []string) {
	for _, f := range r.r.FieldDescriptions() {
		names = append(names, f.Name)
	}
	return names
}

func (r *rows) Close() error {
	_, err := r.r.Close()
	return err
}

func (r *rows) Next(into []driver.Value) error {
	if !r.r.NextRow() {
		if _, err := r.r.Close(); err != nil {
			return err
		}
		return io.EOF
	}
	for i, f := range r.r.FieldDescriptions() {
		text := r.r.Values()[i]
		if text == nil {
			into[i] = nil
			continue
		}
		switch f.DataTypeOID {
		case int8OID, int4OID, int2OID, numericOID:
			n, err := strconv.ParseInt(string(text), 10, 64)
			if err != nil {
				return fmt.Errorf("the column %s is no whole number: %w", f.Name, err)
			}
			into[i] = n
		default:
			into[i] = string(text)
		}
	}
	return nil
}

// Words are those of a statement as this server takes them. What SQLite lacks,
// lower_median(…), becomes an aggregate of the server that is the same. Texts
// are ordered by their bytes, as there.
func Words(words string) string {
	const name = "lower_median("
	for {
		at := strings.Index(words, name)
		if at < 0 {
			break
		}
		end, depth := at+len(name), 1
		for ; end < len(words) && depth > 0; end++ {
			switch words[end] {
			case '(':
				depth++
			case ')':
				depth--
			}
		}
		of := words[at+len(name) : end-1]
		words = words[:at] + "percentile_disc(0.5) WITHIN GROUP (ORDER BY " + of + ")" + words[end:]
	}
	if strings.HasPrefix(strings.TrimSpace(words), "CREATE TABLE") {
		words = strings.ReplaceAll(words, " TEXT", ` TEXT COLLATE "C"`)
	}
	return words
}
