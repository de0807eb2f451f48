package blob

import "io"

// next reads what is taken at once.
func (u *Upload) next(r io.Reader, p []byte) (n int, err error) {
	if !u.Eager {
		return fill(r, p)
	}
	// What begins goes on at once; later some is worth waiting for.
	for enough := min(1+u.offset/eagerFor*eagerPiece, eagerPiece); n < int(enough) && err == nil; {
		var m int
		m, err = r.Read(p[n:])
		n += m
	}
	return n, err
}

// Eager takes are of any size up to eagerFor, in bytes, and of eagerPiece at least from then
// on.
const (
	eagerFor   = 1 << 20
	eagerPiece = 128 << 10
)

// View opens what the upload has for reading, while it goes on and after it was placed.
func (u *Upload) View() (File, error) {
	f, err := u.store.disk.open(u.path)
	if err != nil {
		return nil, storageError("read an upload", err)
	}
	return f, nil
}
