package steward

import (
	"encoding/binary"
	"errors"
	"io"
)

// MaxDatagram is the longest that UDP carries (RFC 768), in bytes.
const MaxDatagram = 65507

// WriteDatagram writes one to a stream.
func WriteDatagram(w io.Writer, p []byte) error {
	if len(p) > MaxDatagram {
		return errors.New("a datagram is too long")
	}
	_, err := w.Write(append(binary.BigEndian.AppendUint16(make([]byte, 0, 2+len(p)), uint16(len(p))), p...))
	return err
}

// ReadDatagram reads one from a stream into buf, which has room for any.
func ReadDatagram(r io.Reader, buf []byte) ([]byte, error) {
	var head [2]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(head[:]))
	if n > MaxDatagram || n > len(buf) {
		return nil, errors.New("a datagram is too long")
	}
	_, err := io.ReadFull(r, buf[:n])
	return buf[:n], err
}
