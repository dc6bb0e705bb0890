package journal

import (
	"bufio"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"
	"strings"
	"time"
)

// Types of the lines that end an export.
const (
	headType = "yardbench.journal.head"
	sealType = "yardbench.journal.export"
)

// Seal vouches for an export: for its lines before it, signed with the key that signs heads.
type Seal struct {
	Installation string    `json:"installation"`
	Lines        int       `json:"lines"`
	Digest       string    `json:"digest"` // SHA-256 over those lines with their ends, hexadecimal
	At           time.Time `json:"at"`
	Signature    string    `json:"signature"` // Ed25519 over Bytes, base64
	Key          string    `json:"key"`       // PEM; hold it against one that came another way
}

// Bytes are what is signed: five lines.
func (s Seal) Bytes() []byte {
	return []byte(strings.Join([]string{"yardbench journal export 1", s.Installation, strconv.Itoa(s.Lines), s.Digest, s.At.UTC().Format(time.RFC3339Nano)}, "\n"))
}

// PublicPEM is the key that heads and exports are held against.
func PublicPEM(key ed25519.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(key)
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})), err
}

// ParsePublicPEM reads one.
func ParsePublicPEM(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("it is no key in PEM")
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	of, ok := key.(ed25519.PublicKey)
	if !ok {
		return nil, errors.New("it is no key of Ed25519")
	}
	return of, nil
}

// Export writes lines and counts what its seal vouches for.
type Export struct {
	to    io.Writer
	sum   hash.Hash
	lines int
}

// NewExport begins an export.
func NewExport(to io.Writer) *Export { return &Export{to: to, sum: sha256.New()} }

// Line writes a line. After Sealed nothing is vouched for.
func (e *Export) Line(v any) error {
	line, err := json.Marshal(v)
	if err != nil {
		return err
	}
	line = append(line, '\n')
	if _, err := e.to.Write(line); err != nil {
		return err
	}
	e.lines++
	e.sum.Write(line)
	return nil
}

// Sealed is the seal of the lines so far.
func (e *Export) Sealed(installation string, at time.Time, key ed25519.PrivateKey) (Seal, error) {
	s := Seal{Installation: installation, Lines: e.lines, Digest: hex.EncodeToString(e.sum.Sum(nil)), At: at.UTC()}
	s.Signature = base64.StdEncoding.EncodeToString(ed25519.Sign(key, s.Bytes()))
	var err error
	s.Key, err = PublicPEM(key.Public().(ed25519.PublicKey))
	return s, err
}

// Report is what is found of an export.
type Report struct {
	Installation string    `json:"installation"`
	Entries      int       `json:"entries"`
	First        int64     `json:"first"` // the number of its first entry; 0 where it has none
	Last         int64     `json:"last"`
	At           time.Time `json:"at"`    // when it was made
	Heads        int       `json:"heads"` // of entries in it, given out at other times
	Key          string    `json:"key"`   // the one it was held against, PEM
	Own          bool      `json:"own"`   // that is the one that stands in it: nothing else says whose it is
	Problems     []string  `json:"problems"`
}

// maxLine bounds a line of an export.
const maxLine = 4 << 20

// VerifyExport holds an export against its seal, with a key that came another way, or, with
// nil, the one that stands in it; and the entries in it against heads that were given out.
func VerifyExport(r io.Reader, key ed25519.PublicKey, heads []Head) (Report, error) {
	out := Report{Problems: []string{}}
	say := func(format string, args ...any) { out.Problems = append(out.Problems, fmt.Sprintf(format, args...)) }
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	sum, counted := sha256.New(), 0
	var seal *Seal
	hashes := map[int64]string{}
	for lines.Scan() {
		var e Event
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return out, fmt.Errorf("line %d is no event: %w", counted+1, err)
		}
		switch {
		case e.Type == sealType && seal == nil:
			seal = &Seal{}
			if err := json.Unmarshal(e.Data, seal); err != nil {
				return out, fmt.Errorf("its seal cannot be read: %w", err)
			}
		case e.Type == headType:
			var h Head
			if err := json.Unmarshal(e.Data, &h); err != nil {
				return out, fmt.Errorf("its head cannot be read: %w", err)
			}
			heads = append(heads, h)
		case seal != nil:
			say("line %d stands behind the seal: nobody vouches for it", counted+2)
		default:
			sum.Write(lines.Bytes())
			sum.Write([]byte{'\n'})
			counted++
			n, err := strconv.ParseInt(e.ID, 10, 64)
			if err != nil || n <= out.Last {
				say("entry %q stands behind entry %d", e.ID, out.Last)
				continue
			}
			if out.Entries++; out.First == 0 {
				out.First = n
			}
			out.Last, hashes[n] = n, e.EntryHash
		}
	}
	if err := lines.Err(); err != nil {
		return out, err
	}
	if seal == nil {
		return out, errors.New("it has no seal: it was broken off, or made by an older release")
	}
	out.Installation, out.At = seal.Installation, seal.At
	if out.Own = key == nil; out.Own {
		own, err := ParsePublicPEM([]byte(seal.Key))
		if err != nil {
			return out, fmt.Errorf("the key in it cannot be read: %w", err)
		}
		key = own
	}
	var err error
	if out.Key, err = PublicPEM(key); err != nil {
		return out, err
	}
	signature, err := base64.StdEncoding.DecodeString(seal.Signature)
	switch {
	case err != nil || !ed25519.Verify(key, seal.Bytes(), signature):
		say("its seal was not made with this key")
	case seal.Lines != counted:
		say("it has %d entries, and %d were sealed", counted, seal.Lines)
	case seal.Digest != hex.EncodeToString(sum.Sum(nil)):
		say("an entry in it is not as it was sealed")
	}
	for _, h := range heads {
		switch is, there := hashes[h.Number]; {
		case !h.Genuine(key):
			say("%s", h.Stranger(key))
		case h.Installation != seal.Installation:
			say("the head of entry %d is of another service, %s", h.Number, h.Installation)
		case !there: // not in this part
		case is != h.Hash:
			say("entry %d is another one than when its head was given out at %s", h.Number, h.At.UTC().Format("2006-01-02 15:04:05 MST"))
		default:
			out.Heads++
		}
	}
	return out, nil
}
