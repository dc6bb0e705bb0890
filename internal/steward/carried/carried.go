// Package carried holds the steward's binaries, built by `make steward` for
// each processor and carried inside the service. It touches only the folder it
// is told to unpack into.
package carried

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"yardbench/internal/durable"
)

//go:embed all:bin
var files embed.FS

// sums keeps the hash of each binary: they are large, and never change.
var sums sync.Map

// Unpack writes the steward for an architecture (amd64, arm64) into a folder
// under dir that is named by its content, so that a running workspace keeps
// the one it was started with. It returns the folder, which holds one file,
// "steward".
func Unpack(dir, arch string) (string, error) {
	content, err := files.ReadFile("bin/steward-linux-" + arch)
	if err != nil {
		return "", fmt.Errorf("this build carries no steward for %s", arch)
	}
	sum, ok := sums.Load(arch)
	if !ok {
		whole := sha256.Sum256(content)
		sum = hex.EncodeToString(whole[:6])
		sums.Store(arch, sum)
	}
	folder := filepath.Join(dir, arch+"-"+sum.(string))
	path := filepath.Join(folder, "steward")
	if st, err := os.Stat(path); err == nil && st.Size() == int64(len(content)) {
		return folder, nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", err
	}
	return folder, durable.Write(path, content, 0o755)
}
