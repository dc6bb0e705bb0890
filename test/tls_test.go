package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// authority signs certificates that the tests' command lines believe.
type authority struct {
	t    *testing.T
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

// newAuthority makes one, and has what is started from here on believe it alone.
func newAuthority(t *testing.T) *authority {
	t.Helper()
	a := &authority{t: t, dir: t.TempDir()}
	of := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Skerry Line"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	a.key = a.newKey()
	a.cert = of
	der := a.sign(of, a.key)
	var err error
	if a.cert, err = x509.ParseCertificate(der); err != nil { // as those who believe it have it
		t.Fatal(err)
	}
	a.write("ca.pem", "CERTIFICATE", der)
	t.Setenv("SSL_CERT_FILE", filepath.Join(a.dir, "ca.pem"))
	t.Setenv("SSL_CERT_DIR", t.TempDir())
	return a
}

func (a *authority) newKey() *ecdsa.PrivateKey {
	a.t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	return key
}

func (a *authority) sign(of *x509.Certificate, key *ecdsa.PrivateKey) []byte {
	a.t.Helper()
	der, err := x509.CreateCertificate(rand.Reader, of, a.cert, key.Public(), a.key)
	if err != nil {
		a.t.Fatal(err)
	}
	return der
}

func (a *authority) write(name, kind string, der []byte) string {
	a.t.Helper()
	path := filepath.Join(a.dir, name)
	if err := os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600); err != nil {
		a.t.Fatal(err)
	}
	return path
}

// give writes a certificate for names, with its key.
func (a *authority) give(file string, serial int64, lasts time.Duration, names ...string) (cert, key string) {
	a.t.Helper()
	k := a.newKey()
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(lasts), DNSNames: names, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		a.t.Fatal(err)
	}
	return a.write(file+".pem", "CERTIFICATE", a.sign(of, k)), a.write(file+".key", "PRIVATE KEY", der)
}

// The service speaks TLS itself, by settings in a file: terminals, streams and what waits
// go over it, and who operates it learns when its certificate ends.
func TestOwnTLS(t *testing.T) {
	needEngine(t)
	ca := newAuthority(t)
	cert, key := ca.give("door", 2, 48*time.Hour, "bench.skerryline.localhost")
	w := simWorld(t)
	w.kill()
	at := fmt.Sprint(freePort(t))
	settings := filepath.Join(w.dir, "settings.yaml")
	if err := os.WriteFile(settings, []byte("tls_certificate: "+cert+"\ntls_key: "+key+"\npublic_address: https://127.0.0.1:"+at+"\nchanges_per_hour: 0\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.address = "http://127.0.0.1:" + at
	w.more = []string{"--sim-fast", "--config", settings}
	w.start()
	if w.address != "https://127.0.0.1:"+at {
		t.Fatalf("it says that it is at %s", w.address)
	}
	w.must(w.as("ingrid", "", "launch", "tide-board"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "tide-board", "--", "echo", "over TLS"), 0, "over TLS")
	w.must(w.as("ingrid", "", "journal", "list"), 0)
	w.must(w.as("astrid", "", "doctor"), 0, "the certificate of the service's door ends in 47 h")
	w.must(w.command("astrid", "", "config", "check", "--config", settings, "--tls-key", filepath.Join(w.dir, "none")).run(), 2, "the certificate", "none", "no such file")
	w.must(w.command("astrid", "", "config", "show", "--config", settings).run(), 0, "tls_certificate", settings, "the default")
}
