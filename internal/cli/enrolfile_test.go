package cli

import (
	"fmt"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// A file of people is read by its columns' names; a slip is told with where it stands.
func TestPeopleOfAFile(t *testing.T) {
	got, err := readPeople(strings.NewReader("\ufeffName, email,team,full_name\n# the new ones\nanna,anna@skerryline.example,Harbour,\"Berg, Anna\"\nbo , ,,Bo\n"))
	want := []wire.NewEnrolment{{Name: "anna", Email: "anna@skerryline.example", Team: "Harbour", FullName: "Berg, Anna"}, {Name: "bo", FullName: "Bo"}}
	if err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("it reads %+v, %v", got, err)
	}
	for text, says := range map[string]string{
		"":                             "columns' names",
		"name\n":                       "nobody is in it",
		"full_name\nAnna\n":            "the column name is missing",
		"name,mail\nanna,x\n":          `no column "mail"`,
		"name,name\na,b\n":             "twice",
		"name,team\nanna\n":            "wrong number of fields",
		"name,team\nanna,\n,Harbour\n": "line 3 has no name",
		"name\n\"an\n":                 "quote",
		"name\n" + strings.Repeat("a\n", enrolMost+1): "more than 1000",
	} {
		if _, err := readPeople(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.40q is told %v, want %q", text, err, says)
		}
	}
}

// A letter is a message that other programs read, for its owner alone; no name of
// somebody's writes a line of its head.
func TestLetters(t *testing.T) {
	path := filepath.Join(t.TempDir(), "anna.eml")
	e := wire.Enrolment{Name: "anna", FullName: "Anna Åberg\r\nBcc: all@skerryline.example", Email: "anna@skerryline.example", Link: "https://bench.skerryline.example/enrol#yb_link_x", ExpiresAt: time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)}
	if err := writeMail(path, "Skerry Line", "Astrid Holm", e); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	m, err := mail.ReadMessage(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	to, err := m.Header.AddressList("To")
	if err != nil || len(to) != 1 || to[0].Address != e.Email || m.Header.Get("Bcc") != "" || m.Header.Get("Subject") != "Your account at Skerry Line" {
		t.Errorf("its head is %+v, %v", m.Header, err)
	}
	body := string(text)
	for _, word := range []string{e.Link, "as anna", "Astrid Holm", "2026"} {
		if !strings.Contains(body, word) {
			t.Errorf("it does not say %q:\n%s", word, body)
		}
	}
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("it is %v, %v", st.Mode(), err)
	}
	if err := writeMail(filepath.Join(filepath.Dir(path), "bo.eml"), "", "", wire.Enrolment{Name: "bo"}); err != nil {
		t.Fatal(err)
	}
	if left, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*")); len(left) != 1 {
		t.Errorf("without an address there are %v", left)
	}
}
