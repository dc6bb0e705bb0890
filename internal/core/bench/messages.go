package bench

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Language servers and debug adapters speak messages of JSON with a head before each,
// as an HTTP head is (Language Server Protocol 3.17, base protocol; Debug Adapter
// Protocol, base protocol).

// MaxMessage bounds a message, in bytes, and maxHead the head before it.
const (
	MaxMessage = 16 << 20
	maxHead    = 4 << 10
)

// ErrNoMessage tells that what came is not of the protocol.
var ErrNoMessage = errors.New("what it says is no message of the protocol")

// Head is what stands before a message of a length.
func Head(length int) string { return fmt.Sprintf("Content-Length: %d\r\n\r\n", length) }

// ReadMessage reads the next message. Memory is taken as it comes, not as it is
// announced. [ErrNoMessage] where it is none, or larger than [MaxMessage]; [io.EOF] at
// the end.
func ReadMessage(r *bufio.Reader) ([]byte, error) {
	length, head := -1, 0
	for {
		line, err := r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			return nil, ErrNoMessage
		}
		if err != nil {
			if err == io.EOF && head+len(line) > 0 {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		if head += len(line); head > maxHead {
			return nil, ErrNoMessage
		}
		text := strings.TrimRight(string(line), "\r\n")
		if text == "" {
			break
		}
		name, value, ok := strings.Cut(text, ":")
		if !ok {
			return nil, ErrNoMessage
		}
		if strings.EqualFold(strings.TrimSpace(name), "Content-Length") {
			n, err := strconv.Atoi(strings.TrimSpace(value))
			if err != nil || n < 0 || n > MaxMessage {
				return nil, ErrNoMessage
			}
			length = n
		}
	}
	if length < 0 {
		return nil, ErrNoMessage
	}
	body, err := io.ReadAll(io.LimitReader(r, int64(length)))
	if err == nil && len(body) < length {
		err = io.ErrUnexpectedEOF
	}
	return body, err
}
