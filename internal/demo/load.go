package demo

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

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
		insert, err := tx.PrepareContext(ctx, "INSERT INTO "+t.Name+"("+strings.Join(t.Columns,
			",")+") VALUES("+marks+")")
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

// Script runs statements in a database of a server; in none, where its name is empty.
type Script func(ctx context.Context, database, sql string) error

// LoadServer makes the demo's databases on a server, each with a prefix to its name.
func LoadServer(ctx context.Context, run Script, engine, prefix string, scale int) error {
	create := map[string]string{"postgres": " TEMPLATE template0 ENCODING 'UTF8'",
		"mysql": " CHARACTER SET utf8mb4"}[engine]
	for _, d := range Databases(scale) {
		before, after, err := d.Schema(engine)
		if err != nil {
			return err
		}
		var sql strings.Builder
		if engine == "postgres" {
			sql.WriteString("SET search_path = public;\n")
		} else {
			sql.WriteString("SET time_zone = '+00:00';\n")
		}
		sql.WriteString(before)
		for _, t := range d.Tables {
			insert(&sql, t, engine)
		}
		sql.WriteString(after)
		if err := run(ctx, "", "CREATE DATABASE "+prefix+d.Name+create); err != nil {
			return err
		}
		if err := run(ctx, prefix+d.Name, sql.String()); err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	return nil
}

// insert writes a table's rows as statements, some hundred rows each.
func insert(b *strings.Builder, t Table, engine string) {
	open, end := "'\\x", "'"
	if engine == "mysql" {
		open = "x'"
	}
	columns := strings.Join(t.Columns, ", ")
	if engine == "mysql" {
		columns = "`" + strings.Join(t.Columns, "`, `") + "`"
	}
	for i, row := range t.Rows {
		if i%500 == 0 {
			fmt.Fprintf(b, "INSERT INTO %s (%s) VALUES\n", t.Name, columns)
		}
		for j, v := range row {
			b.WriteString(map[bool]string{true: "(", false: ", "}[j == 0])
			switch v := v.(type) {
			case nil:
				b.WriteString("NULL")
			case []byte:
				fmt.Fprintf(b, "%s%x%s", open, v, end)
			case string:
				b.WriteString("'" + strings.ReplaceAll(v, "'", "''") + "'")
			case int64, float64:
				if t.Name == "setting" { // whose values are of any kind
					fmt.Fprintf(b, "'%v'", v)
				} else {
					fmt.Fprint(b, v)
				}
			}
		}
		b.WriteString(map[bool]string{true: ");\n", false: "),\n"}[i%500 == 499 || i == len(t.Rows)-1])
	}
}
