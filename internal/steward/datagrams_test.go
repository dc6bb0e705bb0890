package steward

import (
	"bytes"
	"io"
	"testing"
)

// Datagrams keep their bounds over a stream, an empty one too.
func TestDatagrams(t *testing.T) {
	var stream bytes.Buffer
	sent := [][]byte{[]byte("a"), {}, bytes.Repeat([]byte("x"), MaxDatagram)}
	for _, p := range sent {
		if err := WriteDatagram(&stream, p); err != nil {
			t.Fatal(err)
		}
	}
	if WriteDatagram(&stream, make([]byte, MaxDatagram+1)) == nil {
		t.Error("one that is too long is written")
	}
	buf := make([]byte, MaxDatagram)
	for _, p := range sent {
		if got, err := ReadDatagram(&stream, buf); err != nil || !bytes.Equal(got, p) {
			t.Errorf("of %d bytes come %d, %v", len(p), len(got), err)
		}
	}
	if _, err := ReadDatagram(&stream, buf); err != io.EOF {
		t.Errorf("at the end it is %v", err)
	}
	for _, bad := range []string{"\xff\xffx", "\x00\x05ab", "\x00"} {
		if _, err := ReadDatagram(bytes.NewReader([]byte(bad)), buf); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}
