package password

import (
	"encoding/base64"
	"fmt"

	"golang.org/x/crypto/argon2"
)

// Cheap is what [Hash] makes, at next to no cost: for tests, and for the demo whose
// password everybody knows. Of nobody else's is it to be made.
func Cheap(password string) string {
	const memory, once, lane = 8, 1, 1
	b := base64.RawStdEncoding
	salt := []byte("for tests, no salt")
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", memory, once, lane, b.EncodeToString(salt), b.EncodeToString(argon2.IDKey([]byte(password), salt, once, memory, lane, 32)))
}
