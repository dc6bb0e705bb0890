package backup

import (
	"encoding/binary"
	"errors"
	"io"
)

// A write-ahead log, as SQLite writes it (https://sqlite.org/fileformat2.html#walformat):
// a header of 32 bytes, then frames, each a header of 24 bytes and a page. Its checksums
// run on from frame to frame, so that what is left of earlier logs behind them is none.
const (
	walHeader   = 32
	frameHeader = 24
)

// walPlace is how far a log was read: to the end of its last transaction.
type walPlace struct {
	header [walHeader]byte
	order  binary.ByteOrder // of its checksums
	page   int64
	at     int64 // in bytes
	s0, s1 uint32
}

// errNoLog says that there is no log, or that its header is just being written.
var errNoLog = errors.New("there is no write-ahead log")

// beginning reads the header of a log.
func beginning(log io.ReaderAt) (p walPlace, err error) {
	if _, err := log.ReadAt(p.header[:], 0); err != nil {
		return p, errNoLog
	}
	word := func(n int) uint32 { return binary.BigEndian.Uint32(p.header[4*n:]) }
	switch word(0) {
	case 0x377f0682:
		p.order = binary.LittleEndian
	case 0x377f0683:
		p.order = binary.BigEndian
	default:
		return p, errNoLog
	}
	p.page, p.at = int64(word(2)), walHeader
	if p.page < 512 || p.page > 65536 || p.page&(p.page-1) != 0 {
		return p, errNoLog
	}
	if p.sum(p.header[:24]); p.s0 != word(6) || p.s1 != word(7) {
		return p, errNoLog
	}
	return p, nil
}

// sum goes on with the checksum; the length of b is a multiple of eight.
func (p *walPlace) sum(b []byte) {
	for ; len(b) >= 8; b = b[8:] {
		p.s0 += p.order.Uint32(b) + p.s1
		p.s1 += p.order.Uint32(b[4:]) + p.s0
	}
}

// goOn reads on, and hands each whole transaction that follows to take. What is written
// of one that is not committed is left.
func (p *walPlace) goOn(log io.ReaderAt, take func([]byte) error) error {
	frame, held, next := make([]byte, frameHeader+p.page), []byte{}, *p
	for {
		if _, err := log.ReadAt(frame, next.at); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		if [8]byte(frame[8:16]) != [8]byte(p.header[16:24]) { // the salts: of an earlier log
			return nil
		}
		next.sum(frame[:8])
		next.sum(frame[frameHeader:])
		if next.s0 != binary.BigEndian.Uint32(frame[16:]) || next.s1 != binary.BigEndian.Uint32(frame[20:]) {
			return nil // it is being written, or was as its service ended
		}
		next.at += int64(len(frame))
		held = append(held, frame...)
		if binary.BigEndian.Uint32(frame[4:]) == 0 { // a transaction ends with the size that the database has after it
			continue
		}
		if err := take(held); err != nil {
			return err
		}
		*p, held = next, held[:0]
	}
}
