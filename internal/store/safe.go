package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ferry/internal/core/site"
)

// The files of a data folder.
const (
	siteFile     = "site.db"
	samplesFile  = "samples.db"
	trendsFile   = "trends.db"
	markFile     = "site.mark" // number of the last change that was acknowledged
	copiesFolder = "copies"
)

// keptCopies is how many daily copies are kept.
const keptCopies = 14

// Damaged is a file that is no database any more.
type Damaged struct {
	File string
	Why  error
}

func (d *Damaged) Error() string {
	return fmt.Sprintf("%s is damaged (%v): put a copy from the folder %s in its place, and keep the damaged file "+
		"for whoever may repair it", d.File, d.Why, copiesFolder)
}

func (d *Damaged) Unwrap() error { return d.Why }

// begin fills an empty folder. The site is made under another name first, so
// that a site.db is always a whole one.
func begin(ctx context.Context, dir string, first func() *site.Site) error {
	path := filepath.Join(dir, siteFile)
	info, err := os.Stat(path)
	switch {
	case err == nil && info.Size() == 0:
		return fmt.Errorf("%s is empty: something has cut it off. Put a copy from the folder %s in its place, or "+
			"remove it to begin a new site", siteFile, copiesFolder)
	case err == nil:
		return nil
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if copies, err := filepath.Glob(filepath.Join(dir, copiesFolder, "site-*.db")); err == nil && len(copies) > 0 {
		slices.Sort(copies)
		return fmt.Errorf("%s is gone, and there are copies of it: put the latest, %s, in its place, or remove the "+
			"folder %s to begin a new site",
			siteFile, filepath.Base(copies[len(copies)-1]), copiesFolder)
	}
	draft := path + ".new"
	for _, tail := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(draft + tail); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	db, err := connect(ctx, draft, "FULL", siteMigrations, "migrations", nil)
	if err != nil {
		return err
	}
	s := &Store{db: db, now: time.Now}
	err = s.load(ctx)
	if err == nil {
		err = s.fill(ctx, first())
	}
	if err := errors.Join(err, s.Close()); err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(dir, markFile)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Rename(draft, path)
}

// open opens a folder that holds a site.
func open(ctx context.Context, dir string) (*Store, error) {
	s := &Store{dir: dir, now: time.Now}
	fail := func(err error) (*Store, error) { return nil, errors.Join(err, s.Close()) }
	found, err := asFound(dir)
	if err != nil {
		return fail(err)
	}
	path := filepath.Join(dir, siteFile)
	s.db, err = connect(ctx, path, "FULL", siteMigrations, "migrations", func(db *sql.DB, at int64) error {
		return copyInto(ctx, db, filepath.Join(dir, copiesFolder,
			fmt.Sprintf("site-before-version-%d-%s.db", at+1, s.now().Format("2006-01-02-150405"))))
	})
	if err != nil {
		return fail(err)
	}
	if s.reads, err = sql.Open("sqlite", uri(path)+"?_pragma=query_only(1)&_pragma=busy_timeout(5000)"); err != nil {
		return fail(err)
	}
	s.reads.SetMaxOpenConns(4)
	if err := s.load(ctx); err != nil {
		return fail(err)
	}
	if err := s.compare(found); err != nil {
		return fail(err)
	}
	if err := s.openSeen(ctx); err != nil {
		return fail(err)
	}
	if err := s.KeepCopy(ctx); err != nil {
		s.notices = append(s.notices, "The daily copy of the site could not be kept: "+err.Error()+".")
	}
	return s, nil
}

// openSeen opens the files of what was seen.
func (s *Store) openSeen(ctx context.Context) (err error) {
	s.samples, err = s.openOrAside(ctx, samplesFile, "NORMAL", sampleMigrations, "samplemigrations",
		"Recorded values and outages")
	if err == nil {
		s.trends, err = s.openOrAside(ctx, trendsFile, "FULL", trendMigrations, "trendmigrations", "Trends")
	}
	return err
}

// openOrAside opens a file without which the site can do; one that is damaged is set aside.
func (s *Store) openOrAside(ctx context.Context, file, synchronous string, migrations fs.FS, folder,
	what string) (*sql.DB, error) {
	path := filepath.Join(s.dir, file)
	db, err := connect(ctx, path, synchronous, migrations, folder, nil)
	var damaged *Damaged
	if !errors.As(err, &damaged) {
		return db, err
	}
	aside := fmt.Sprintf("%s.damaged-%s", path, s.now().Format("2006-01-02-150405"))
	for _, tail := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(path+tail, aside+tail); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	s.notices = append(s.notices,
		fmt.Sprintf("%s was damaged (%v). %s of before are not shown; the file was set aside as "+
			"%s.", file, damaged.Why, what, filepath.Base(aside)))
	return connect(ctx, path, synchronous, migrations, folder, nil)
}

// asFound copies the database before it is opened, if it was not closed in
// order: opening it drops what is damaged in its journal. It returns the folder
// of the copy, or "".
func asFound(dir string) (string, error) {
	path := filepath.Join(dir, siteFile)
	if info, err := os.Stat(path + "-wal"); err != nil || info.Size() == 0 {
		return "", nil
	}
	to := filepath.Join(dir, copiesFolder, "as-found")
	if err := os.MkdirAll(to, 0o755); err != nil {
		return "", err
	}
	for _, tail := range []string{"", "-wal"} {
		if err := copyFile(path+tail, filepath.Join(to, siteFile+tail)); err != nil {
			return "", err
		}
	}
	return to, nil
}

func copyFile(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// compare holds the last change that the database has against the last that was
// acknowledged.
func (s *Store) compare(found string) error {
	path := filepath.Join(s.dir, markFile)
	var err error
	if s.mark, err = os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o644); err != nil {
		return err
	}
	text, err := io.ReadAll(io.LimitReader(s.mark, 64))
	if err != nil {
		return err
	}
	last, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	seq := s.Now().Seq
	switch {
	case err == nil && last > seq:
		says := fmt.Sprintf("The last %d changes of the site are missing: they were acknowledged, and the journal "+
			"of %s does not have them: it is damaged, or the file is an older copy.", last-seq, siteFile)
		if found != "" {
			kept := filepath.Join(s.dir, copiesFolder, "damaged-"+s.now().Format("2006-01-02-150405"))
			if err := os.Rename(found, kept); err != nil {
				return err
			}
			says += fmt.Sprintf(" The files as they were found are in %s/%s.", copiesFolder, filepath.Base(kept))
		}
		s.notices = append(s.notices, says)
	case found != "":
		if err := os.RemoveAll(found); err != nil {
			return err
		}
	}
	return s.reached(seq)
}

// reached notes the last change that was acknowledged. It goes to the file
// system, not to the disk: it is there after a kill, and after a loss of power
// says too little rather than too much.
func (s *Store) reached(seq int64) error {
	if s.mark == nil {
		return nil // while a new folder is filled
	}
	if _, err := s.mark.WriteAt(fmt.Appendf(nil, "%-20d\n", seq), 0); err != nil {
		return fmt.Errorf("%s could not be written: %w", markFile, err)
	}
	return nil
}

// KeepCopy keeps a copy of the site for today, if there is none yet, and the
// copies of the latest days on which there was one.
func (s *Store) KeepCopy(ctx context.Context) error {
	dir := filepath.Join(s.dir, copiesFolder)
	path := filepath.Join(dir, "site-"+s.now().Format("2006-01-02")+".db")
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	db, err := sql.Open("sqlite", uri(filepath.Join(s.dir, siteFile))+"?_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	if err := errors.Join(copyInto(ctx, db, path), db.Close()); err != nil {
		return err
	}
	list, err := filepath.Glob(filepath.Join(dir, "site-[0-9]*.db"))
	if err != nil {
		return err
	}
	slices.Sort(list)
	var errs []error
	for _, old := range list[:max(0, len(list)-keptCopies)] {
		errs = append(errs, os.Remove(old))
	}
	return errors.Join(errs...)
}

// copyInto copies a database that is in use.
func copyInto(ctx context.Context, db *sql.DB, path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	draft := path + ".new"
	if err := os.Remove(draft); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, draft); err != nil {
		return err
	}
	return os.Rename(draft, path)
}
