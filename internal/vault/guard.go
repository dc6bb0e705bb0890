package vault

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"os/exec"
	"strings"
	"time"
)

// Guard is a key service: it seals the key file and opens it. What it holds never
// comes here.
type Guard interface {
	Seal(plain []byte) ([]byte, error)
	Open(sealed []byte) ([]byte, error)
}

// master is a guard as Tink asks one.
type master struct{ Guard }

func (m master) Encrypt(plain, _ []byte) ([]byte, error)  { return m.Seal(plain) }
func (m master) Decrypt(sealed, _ []byte) ([]byte, error) { return m.Guard.Open(sealed) }

const (
	guardMost  = 30 * time.Second
	answerMost = 1 << 20
)

// Command is a guard that is a command of the operator's (docs/operating.md, "A key
// service"): it is run with seal or open as its last word, reads a line of base64 and
// writes one.
type Command []string

// Seal asks it to seal.
func (c Command) Seal(plain []byte) ([]byte, error) { return c.ask("seal", plain) }

// Open asks it to open.
func (c Command) Open(sealed []byte) ([]byte, error) { return c.ask("open", sealed) }

func (c Command) ask(verb string, in []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), guardMost)
	defer cancel()
	cmd := exec.CommandContext(ctx, c[0], append(append([]string{}, c[1:]...), verb)...)
	cmd.Stdin = strings.NewReader(base64.StdEncoding.EncodeToString(in) + "\n")
	cmd.WaitDelay = time.Second
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("the key service (%s %s): %w: %.400s", c[0], verb, err, strings.TrimSpace(errs.String()))
	}
	if len(out) > answerMost {
		return nil, fmt.Errorf("the key service (%s %s) answers too much", c[0], verb)
	}
	answer, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(out)))
	if err != nil || len(answer) == 0 {
		return nil, fmt.Errorf("the key service (%s %s) answers no base64", c[0], verb)
	}
	return answer, nil
}
