package demo

import (
	"encoding/base64"
	"fmt"
	"io"
	"strings"

	"yardbench/internal/vault"
)

// KeyService is a small stand-in for a key service, by the protocol of --key-service: it
// seals or opens one line of base64, with a key of its own in a file.
func KeyService(file, verb string, in io.Reader, out io.Writer) error {
	line, err := io.ReadAll(io.LimitReader(in, 1<<20))
	if err != nil {
		return err
	}
	given, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(line)))
	if err != nil {
		return fmt.Errorf("this is no base64: %w", err)
	}
	v, err := vault.Open(file, nil)
	if err != nil {
		return err
	}
	var answer []byte
	switch verb {
	case "seal":
		answer, err = v.Seal(string(given), "key file")
	case "open":
		var text string
		text, err = v.Open(given, "key file")
		answer = []byte(text)
	default:
		err = fmt.Errorf("%q is neither seal nor open", verb)
	}
	if err == nil {
		_, err = fmt.Fprintln(out, base64.StdEncoding.EncodeToString(answer))
	}
	return err
}
