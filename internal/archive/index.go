package archive

import (
	"archive/tar"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"strings"

	_ "modernc.org/sqlite" // the driver

	"nexlin/internal/handle"
	"nexlin/internal/inventory"
)

// An Index knows the files and symbolic links of a tar archive that an engine
// wrote, by their names and digests, so that a folder can be held against it. It
// lies in a database file that has no name: memory does not grow with the number
// of files.
type Index struct {
	db  *sql.DB
	tx  *sql.Tx
	add *sql.Stmt
	get *sql.Stmt
}

// IndexOf reads an archive to its end, as [Content] does, and remembers what is
// in it. dir is a directory for the index. known is false, and the index nil, if
// it is of a kind that is not read here. The caller closes the index.
func IndexOf(ctx context.Context, r io.Reader, dir string) (x *Index, known bool, err error) {
	x, err = newIndex(dir)
	if err != nil {
		return nil, false, err
	}
	d := newDigester()
	known, err = eachEntry(ctx, r, func(h *tar.Header, content io.Reader) error {
		name := strings.TrimPrefix(path.Clean("/"+h.Name), "/")
		switch h.Typeflag {
		case tar.TypeReg:
			d.sum.Reset()
			if _, err := copyWith(ctx, d.sum, content, d.buf); err != nil {
				return err
			}
			return x.put(name, d.sum.Sum(nil))
		case tar.TypeSymlink:
			return x.put(name, []byte("link "+h.Linkname))
		case tar.TypeLink:
			sum, err := x.digest(strings.TrimPrefix(path.Clean("/"+h.Linkname), "/"))
			if err != nil || sum == nil {
				return errors.Join(err, damagedEntry(h.Name))
			}
			return x.put(name, sum)
		}
		return nil
	})
	if err != nil || !known {
		return nil, known, errors.Join(err, x.Close())
	}
	return x, true, nil
}

func damagedEntry(name string) error {
	return &DamageError{Path: name, What: "it is another name of a file that did not come before it"}
}

func newIndex(dir string) (*Index, error) {
	f, err := os.CreateTemp(dir, "index-")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name()) // open by then, or of no use
	if err := f.Close(); err != nil {
		return nil, err
	}
	x := &Index{}
	if x.db, err = sql.Open("sqlite", (&url.URL{Scheme: "file", Path: f.Name()}).String()); err != nil {
		return nil, err
	}
	x.db.SetMaxOpenConns(1)
	// Nothing of it is needed after a stop: no journal, no flushing.
	_, err = x.db.Exec(`pragma journal_mode=off; pragma synchronous=off; pragma locking_mode=exclusive;
		create table files (name blob primary key, sum blob) without rowid`)
	if err == nil {
		x.tx, err = x.db.Begin()
	}
	if err == nil {
		x.add, err = x.tx.Prepare(`insert into files values (?, ?) on conflict do update set sum = excluded.sum`)
	}
	if err == nil {
		x.get, err = x.tx.Prepare(`select sum from files where name = ?`)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("index of an archive in %s: %w", dir, err), x.db.Close())
	}
	return x, nil
}

// An indexError says that the index, not the archive, has failed.
type indexError struct{ err error }

func (e *indexError) Error() string { return "index of an archive: " + e.err.Error() }
func (e *indexError) Unwrap() error { return e.err }

func (x *Index) put(name string, sum []byte) error {
	if _, err := x.add.Exec([]byte(name), sum); err != nil {
		return &indexError{err}
	}
	return nil
}

// digest is nil for a name that is not in the archive.
func (x *Index) digest(name string) (sum []byte, err error) {
	err = x.get.QueryRow([]byte(name)).Scan(&sum)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		err = &indexError{err}
	}
	return sum, err
}

// Close gives the index up.
func (x *Index) Close() error {
	var err error
	if x.tx != nil {
		err = x.tx.Rollback()
	}
	return errors.Join(err, x.db.Close())
}

// A Holding says how a folder and an archive differ.
type Holding struct {
	Lacks   int64  // files and links of the folder that the archive has not, or has otherwise
	Changed int64  // of these, what the archive has otherwise
	First   string // the first of them, relative to the folder; empty if there is none
	More    int64  // files and links of the archive that the folder has not
}

// Compare holds a folder against the archive, reading every file of it. The
// names in the archive may stand below a directory that the folder does not have.
func (x *Index) Compare(ctx context.Context, root *handle.Dir) (Holding, error) {
	c := &comparison{ctx: ctx, x: x, digests: newDigester()}
	if err := inventory.Walk(ctx, root, c); err != nil {
		return c.out, err
	}
	var all int64
	if err := x.tx.QueryRow(`select count(*) from files`).Scan(&all); err != nil {
		return c.out, err
	}
	c.out.More = all - c.have
	return c.out, nil
}

type comparison struct {
	ctx     context.Context
	x       *Index
	digests *digester
	prefix  *string // what stands before the folder's names in the archive; nil: not known yet
	have    int64   // names that both have
	out     Holding
}

func (c *comparison) Leave(*inventory.Entry) error { return nil }

func (c *comparison) Visit(e *inventory.Entry) (bool, error) {
	var sum []byte
	switch {
	case e.Stat.IsRegular():
		d, err := c.digests.file(c.ctx, e)
		if err != nil {
			return false, err
		}
		sum = d[:]
	case e.Stat.IsSymlink():
		sum = []byte("link " + e.Link)
	default:
		return true, nil
	}
	if err := c.findPrefix(e.Path); err != nil {
		return false, err
	}
	var has []byte
	if c.prefix != nil {
		var err error
		if has, err = c.x.digest(*c.prefix + e.Path); err != nil {
			return false, err
		}
	}
	if has != nil {
		c.have++
	}
	if has != nil && string(has) != string(sum) {
		c.out.Changed++
	}
	if string(has) != string(sum) {
		if c.out.Lacks++; c.out.First == "" {
			c.out.First = e.Path
		}
	}
	return true, nil
}

// findPrefix takes the shortest name that ends in the folder's first one.
func (c *comparison) findPrefix(first string) error {
	if c.prefix != nil {
		return nil
	}
	if sum, err := c.x.digest(first); err != nil || sum != nil {
		c.prefix = new(string)
		return err
	}
	var name []byte
	err := c.x.tx.QueryRow(`select name from files where substr(name, -?) = ? order by length(name) limit 1`,
		len(first)+1, []byte("/"+first)).Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err == nil {
		p := strings.TrimSuffix(string(name), first)
		c.prefix = &p
	}
	return err
}
