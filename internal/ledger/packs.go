package ledger

import "time"

// A Pack is a verified archive that was made of a folder. It may be gone by
// now: the ledger only knows that it was made.
type Pack struct {
	Run      string
	Redirect string
	Folder   string
	File     string
	Bytes    int64 // of the archive
	Files    int64 // in it
	Digest   string
	Made     time.Time
}

// AddPack records an archive.
func (t *Tx) AddPack(p Pack) error {
	_, err := t.tx.Exec("INSERT OR REPLACE INTO packs (run, redirect, folder, file, bytes, files, digest, made) "+
		"VALUES (?,?,?,?,?,?,?,?)",
		p.Run, p.Redirect, []byte(p.Folder), []byte(p.File), p.Bytes, p.Files, p.Digest, timeText(p.Made))
	return err
}

// PackDigests gives the SHA-256 digests of the archives of so many bytes that
// were made, in hexadecimal digits.
func (l *Ledger) PackDigests(bytes int64) ([]string, error) {
	return list(l, scanText, "SELECT digest FROM packs WHERE bytes = ?", bytes)
}

// Holds reports whether an archive is of a redirect: of its target, or of the folder at its
// link path before it was moved.
func (p *Pack) Holds(r *Redirect) bool { return p.Redirect == r.Name || p.Folder == r.Link }

// Packs lists the archives that were made, the newest first.
func (l *Ledger) Packs() ([]Pack, error) {
	return list(l, func(s scanner) (p Pack, err error) {
		var folder, file []byte
		var made string
		err = s.Scan(&p.Run, &p.Redirect, &folder, &file, &p.Bytes, &p.Files, &p.Digest, &made)
		p.Folder, p.File, p.Made = string(folder), string(file), parseTime(made)
		return p, err
	}, "SELECT run, redirect, folder, file, bytes, files, digest, made FROM packs ORDER BY rowid DESC")
}
