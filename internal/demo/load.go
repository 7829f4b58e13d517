package demo

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

// LoadSQLite makes the demo's databases as files NAME.db in a folder.
func LoadSQLite(ctx context.Context, folder string, scale int) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	for _, d := range Databases(scale) {
		if err := loadFile(ctx, filepath.Join(folder, d.Name+".db"), d); err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	return nil
}

// OpenSQLite opens a file for the demo's own changes.
func OpenSQLite(path string) (*sql.DB, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Path: path}).String())
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

func loadFile(ctx context.Context, path string, d Database) error {
	before, after, err := d.Schema("sqlite")
	if err != nil {
		return err
	}
	db, err := OpenSQLite(path)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, before); err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, t := range d.Tables {
		marks := strings.Repeat(",?", len(t.Columns))[1:]
		insert, err := tx.PrepareContext(ctx, "INSERT INTO "+t.Name+"("+strings.Join(t.Columns, ",")+") VALUES("+marks+")")
		if err != nil {
			return err
		}
		for _, row := range t.Rows {
			if _, err := insert.ExecContext(ctx, row...); err != nil {
				return err
			}
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, after)
	return err
}

// LoadPostgres makes the demo's databases on a server. The configuration is of
// any database there in which the user may create others.
func LoadPostgres(ctx context.Context, at *pgx.ConnConfig, scale int) error {
	home, err := pgx.ConnectConfig(ctx, at)
	if err != nil {
		return err
	}
	defer home.Close(ctx)
	for _, d := range Databases(scale) {
		if _, err := home.Exec(ctx, "CREATE DATABASE "+d.Name+" TEMPLATE template0 ENCODING 'UTF8'"); err != nil {
			return err
		}
		own := at.Copy()
		own.Database = d.Name
		if err := loadServer(ctx, own, d); err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	return nil
}

func loadServer(ctx context.Context, at *pgx.ConnConfig, d Database) error {
	before, after, err := d.Schema("postgres")
	if err != nil {
		return err
	}
	c, err := pgx.ConnectConfig(ctx, at)
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, before); err != nil {
		return err
	}
	for _, t := range d.Tables {
		sql := "COPY " + t.Name + "(" + strings.Join(t.Columns, ",") + ") FROM STDIN"
		if _, err := c.PgConn().CopyFrom(ctx, strings.NewReader(copyText(t)), sql); err != nil {
			return fmt.Errorf("%s: %w", t.Name, err)
		}
	}
	_, err = c.Exec(ctx, after)
	return err
}

// copyText writes a table in the text form of COPY.
func copyText(t Table) string {
	escape := strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)
	var b strings.Builder
	for _, row := range t.Rows {
		for i, v := range row {
			if i > 0 {
				b.WriteByte('\t')
			}
			switch v := v.(type) {
			case nil:
				b.WriteString(`\N`)
			case []byte:
				fmt.Fprintf(&b, `\\x%x`, v)
			default:
				b.WriteString(escape.Replace(fmt.Sprint(v)))
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}
