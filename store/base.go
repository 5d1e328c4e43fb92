package store

import (
	"encoding/binary"
	"errors"
	"fmt"

	"fencepost/dnsname"
	"fencepost/rr"
	"fencepost/zone"
)

// A base is kept in chunks. Its form is the number of the form of its pages
// (zone.PageForm): a chunk is pages, each behind its length and whether it is one of NSEC3
// records as uint32, length<<1 | hashed. Form 0, which is read and no longer written, is
// records: owner, type uint16, TTL uint32, length uint16, data.

// encode cuts a zone into chunks of about chunkSize; one page more may be in it.
func encode(z *zone.Snapshot, put func([]byte) error) error {
	chunk := make([]byte, 0, chunkSize+8192)
	for page, hashed := range z.Pages {
		head := uint32(len(page)) << 1
		if hashed {
			head |= 1
		}
		chunk = append(binary.BigEndian.AppendUint32(chunk, head), page...)
		if len(chunk) >= chunkSize {
			if err := put(chunk); err != nil {
				return err
			}
			chunk = chunk[:0]
		}
	}
	if len(chunk) == 0 {
		return nil
	}
	return put(chunk)
}

// baseReader makes a version of the chunks of a base, which come in order.
type baseReader interface {
	chunk([]byte) error
	zone() *zone.Snapshot
}

// readerOf is the reader of a form; ErrDamaged for one that a newer program wrote.
func readerOf(form int, apex dnsname.Name) (baseReader, error) {
	switch form {
	case 0:
		return recordsForm{zone.NewBuilder(apex, false)}, nil
	case zone.PageForm:
		return pagesForm{zone.NewAssembler(apex)}, nil
	}
	return nil, fmt.Errorf("%w: it has form %d, which this program does not know; a newer one wrote it", ErrDamaged, form)
}

var errCutOff = errors.New("a piece is cut off")

type pagesForm struct{ to *zone.Assembler }

func (f pagesForm) chunk(b []byte) error {
	for len(b) > 0 {
		if len(b) < 4 {
			return errCutOff
		}
		head := binary.BigEndian.Uint32(b)
		b = b[4:]
		if int(head>>1) > len(b) {
			return errCutOff
		}
		if err := f.to.Add(b[:head>>1], head&1 != 0); err != nil {
			return err
		}
		b = b[head>>1:]
	}
	return nil
}

func (f pagesForm) zone() *zone.Snapshot { return f.to.Snapshot() }

type recordsForm struct{ to *zone.Builder }

func (f recordsForm) chunk(b []byte) error {
	for len(b) > 0 {
		n, err := dnsname.WireLen(b)
		if err != nil || len(b) < n+8 || len(b) < n+8+int(binary.BigEndian.Uint16(b[n+6:])) {
			return errCutOff
		}
		end := n + 8 + int(binary.BigEndian.Uint16(b[n+6:]))
		t, ttl := rr.Type(binary.BigEndian.Uint16(b[n:])), binary.BigEndian.Uint32(b[n+2:])
		if err := f.to.Add(b[:n], t, ttl, b[n+8:end], 0); err != nil {
			return err
		}
		b = b[end:]
	}
	return nil
}

func (f recordsForm) zone() *zone.Snapshot { return f.to.Build().Snapshot }
