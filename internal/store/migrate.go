package store

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"strings"

	"crosswind/core/record"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver that goose uses
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// migrationFiles is the folder of the embedded migrations.
func migrationFiles() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the name is a constant
	}
	return sub
}

// version is the newest migration that this build has.
func version() (n int64) {
	names, err := fs.Glob(migrationFiles(), "*.sql")
	if err != nil {
		panic(err) // the pattern is a constant
	}
	for _, name := range names {
		v, err := goose.NumericComponent(name)
		if err != nil {
			panic(err) // the names are constants
		}
		n = max(n, v)
	}
	return n
}

// Migrate brings a database's schema up to date as its owner, whose address url is,
// and grants role what the application needs: everything but changing the ledger, or
// the schema itself. Several at once wait for each other.
func Migrate(ctx context.Context, url, role string) error {
	db, err := sql.Open("pgx", url)
	if err != nil {
		return fmt.Errorf("the database address: %w", err)
	}
	defer db.Close()
	locker, err := lock.NewPostgresSessionLocker(lock.WithLockTimeout(1, 120))
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, migrationFiles(), goose.WithSessionLocker(locker), goose.WithGoMigrations(
		goose.NewGoMigration(20, &goose.GoFunc{RunTx: partRecords}, &goose.GoFunc{RunTx: func(context.Context, *sql.Tx) error { return nil }}),
	))
	if err == nil {
		_, err = p.Up(ctx)
	}
	if err != nil {
		return fmt.Errorf("bringing the database's schema up to date: %w", err)
	}
	return grant(ctx, db, role)
}

// partRecords writes each record of an earlier version in two rows: what is scanned, with
// the words that it is found by, and the whole.
func partRecords(ctx context.Context, tx *sql.Tx) error {
	for last := int64(0); ; {
		rows, err := tx.QueryContext(ctx, "SELECT id, body::text FROM record WHERE id > $1 ORDER BY id LIMIT 2000", last)
		if err != nil {
			return err
		}
		var ids, pages []int64
		var words, maps, tables, bodies []string
		var rowIDs []*string
		for rows.Next() {
			var id int64
			var body []byte
			old := struct {
				*record.Record
				Origin record.Origin `json:"origin"` // the only one, then
			}{Record: &record.Record{}}
			err := rows.Scan(&id, &body)
			if err == nil {
				err = json.Unmarshal(body, &old)
			}
			r := old.Record
			r.Origins = []record.Origin{old.Origin}
			if err == nil {
				body, err = json.Marshal(r)
			}
			if err != nil {
				rows.Close()
				return fmt.Errorf("record %d: %w", id, err)
			}
			ids, pages, rowIDs = append(ids, id), append(pages, int64(r.Origin().Page)), append(rowIDs, rowID(r))
			words, maps, tables = append(words, record.Clean(indexed(r))), append(maps, record.Clean(r.Origin().FieldMap)), append(tables, record.Clean(r.Origin().Table))
			bodies = append(bodies, string(cleanJSON(body)))
		}
		rows.Close()
		if err := rows.Err(); err != nil || len(ids) == 0 {
			return err
		}
		last = ids[len(ids)-1]
		if _, err := tx.ExecContext(ctx, `UPDATE record r SET words = x.words, field_map = x.field_map, tab = x.tab, row_id = x.row_id, page = x.page
  FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bigint[]) x(id, words, field_map, tab, row_id, page) WHERE r.id = x.id`, ids, words, maps, tables, rowIDs, pages); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO record_whole SELECT * FROM unnest($1::bigint[], $2::text[])", ids, bodies); err != nil {
			return err
		}
	}
}

// grant gives the application's role its rights.
func grant(ctx context.Context, db *sql.DB, role string) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("granting to %s: %w", role, err)
	}
	defer tx.Rollback()
	r := pgx.Identifier{role}.Sanitize()
	for _, q := range []string{
		"SELECT pg_advisory_xact_lock(7241)", // grants at once fail, as "tuple concurrently updated"
		"GRANT USAGE ON SCHEMA public TO " + r,
		"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO " + r,
		"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO " + r,
		"REVOKE ALL ON ledger, goose_db_version FROM " + r,
		"GRANT SELECT, INSERT ON ledger TO " + r,
		"GRANT SELECT ON goose_db_version TO " + r,
	} {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("granting to %s: %w", role, err)
		}
	}
	return tx.Commit()
}

// AppRole is the role that Prepare makes.
const AppRole = "crosswind_app"

// Prepare readies a database of which url is an administrator's address: it makes
// the application's role if need be, brings the schema up to date, and gives the
// address by which the application opens it. It is for the demo and for tests, whose
// clusters are their own.
func Prepare(ctx context.Context, address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("the database address: %w", err)
	}
	secret, _ := u.User.Password()
	h := hmac.New(sha256.New, []byte(secret))
	h.Write([]byte(AppRole))
	password := hex.EncodeToString(h.Sum(nil))
	c, err := pgx.Connect(ctx, address)
	if err != nil {
		return "", fmt.Errorf("the database: %w", err)
	}
	defer c.Close(ctx)
	var there bool
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", AppRole).Scan(&there); err != nil {
		return "", fmt.Errorf("the database's roles: %w", err)
	}
	if !there {
		_, err := c.Exec(ctx, fmt.Sprintf("CREATE ROLE %s LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOBYPASSRLS PASSWORD '%s'", AppRole, password))
		var pg *pgconn.PgError
		if err != nil && !(errors.As(err, &pg) && (pg.Code == "42710" || pg.Code == "23505")) { // somebody else made it meanwhile
			return "", fmt.Errorf("making the role %s: %w", AppRole, err)
		}
	}
	if err := Migrate(ctx, address, AppRole); err != nil {
		return "", err
	}
	u.User = url.UserPassword(AppRole, password)
	return u.String(), nil
}

// ErrOwner is wrapped when the role of the address could drop or rewrite the ledger.
var ErrOwner = errors.New("the application's role could rewrite the ledger")

// checkRole says why the role that is connected is not one for the application, and
// why the schema is not the one that this build needs.
func checkRole(ctx context.Context, db *sql.DB) (role, schema error) {
	var at sql.NullInt64
	err := db.QueryRowContext(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&at)
	if want := version(); err != nil || at.Int64 != want {
		return nil, fmt.Errorf("the database's schema is at version %d, this build needs %d: run crosswind migrate as its owner", at.Int64, want)
	}
	var who string
	var super, owner, drop, change, create bool
	err = db.QueryRowContext(ctx, `SELECT current_user, (SELECT rolsuper OR rolcreaterole OR rolreplication FROM pg_roles WHERE rolname = current_user),
  pg_has_role(c.relowner, 'MEMBER') OR (SELECT pg_has_role(datdba, 'MEMBER') FROM pg_database WHERE datname = current_database()),
  has_table_privilege(c.oid, 'TRUNCATE') OR has_table_privilege(c.oid, 'TRIGGER'), has_table_privilege(c.oid, 'UPDATE') OR has_table_privilege(c.oid, 'DELETE'),
  has_schema_privilege('public', 'CREATE')
FROM pg_class c WHERE c.oid = 'ledger'::regclass`).Scan(&who, &super, &owner, &drop, &change, &create)
	if err != nil {
		return nil, fmt.Errorf("the database's roles: %w", err)
	}
	var may []string
	for _, m := range []struct {
		is bool
		s  string
	}{{super, "is a superuser or makes roles"}, {owner, "owns the ledger or its database"}, {drop, "may truncate the ledger or change its triggers"}, {change, "may change the ledger's lines"}, {create, "may create in its schema"}} {
		if m.is {
			may = append(may, m.s)
		}
	}
	if len(may) > 0 {
		return fmt.Errorf("%w: %s %s", ErrOwner, who, strings.Join(may, " and ")), nil
	}
	return nil, nil
}
