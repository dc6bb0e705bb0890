package cli

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/mail"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

// enrolMost bounds the people of one file.
const enrolMost = 1000

// enrolColumns are the columns that a file of people may have.
var enrolColumns = []string{"name", "full_name", "email", "role", "team"}

// readPeople reads a file of people, as CSV (RFC 4180) with a head.
func readPeople(in io.Reader) ([]wire.NewEnrolment, error) {
	r := csv.NewReader(in)
	r.TrimLeadingSpace, r.Comment = true, '#'
	head, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("its first line has the columns' names, of: %s: %w", strings.Join(enrolColumns, ", "), err)
	}
	for i, c := range head {
		head[i] = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(c, "\ufeff"))) // as spreadsheets write it
		if !slices.Contains(enrolColumns, head[i]) {
			return nil, fmt.Errorf("there is no column %q; there are: %s", head[i], strings.Join(enrolColumns, ", "))
		}
		if slices.Contains(head[:i], head[i]) {
			return nil, fmt.Errorf("the column %q is there twice", head[i])
		}
	}
	if !slices.Contains(head, "name") {
		return nil, errors.New("the column name is missing: what each signs in with")
	}
	var out []wire.NewEnrolment
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if len(out) == enrolMost {
			return nil, fmt.Errorf("it has more than %d people", enrolMost)
		}
		var e wire.NewEnrolment
		for i, v := range row {
			*map[string]*string{"name": &e.Name, "full_name": &e.FullName, "email": &e.Email, "role": &e.Role, "team": &e.Team}[head[i]] = strings.TrimSpace(v)
		}
		if line, _ := r.FieldPos(0); e.Name == "" {
			return nil, fmt.Errorf("line %d has no name", line)
		}
		out = append(out, e)
	}
	if len(out) == 0 {
		return nil, errors.New("nobody is in it")
	}
	return out, nil
}

// enrolFile makes a link for each in a file. What cannot be made is told, and the others
// are made.
func (a peopleCommands) enrolFile(cmd *cobra.Command, api *client.Client, path, mails string, usual wire.NewEnrolment) error {
	in := io.Reader(a.in)
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return usage{err}
		}
		defer f.Close()
		in = f
	}
	people, err := readPeople(in)
	if err != nil {
		return usage{fmt.Errorf("%s: %w", path, err)}
	}
	if mails != "" {
		if err := os.MkdirAll(mails, 0o700); err != nil {
			return err
		}
	}
	me, err := api.Self.Me(cmd.Context())
	if err != nil {
		return err
	}
	made := []wire.Enrolment{}
	failed := 0
	for _, p := range people {
		p.Role, p.Team, p.Hours = cmp.Or(p.Role, usual.Role), cmp.Or(p.Team, usual.Team), usual.Hours
		e, err := api.People.Enrol(cmd.Context(), p)
		var refused *wire.Problem
		if errors.As(err, &refused) && refused.Status < 500 && refused.Status != 401 {
			failed++
			fmt.Fprintf(a.err, "yardbench: %s: %s\n", clean(p.Name), clean(strings.TrimSuffix(refused.Detail+"; "+nextSteps(refused), "; ")))
			continue
		}
		if err != nil {
			return err
		}
		made = append(made, e)
		if mails != "" {
			if err := writeMail(filepath.Join(mails, e.Name+".eml"), cmp.Or(me.Organisation, "Yard Bench"), me.FullName, e); err != nil {
				return err
			}
		}
	}
	err = a.print(made, func() {
		w := csv.NewWriter(a.out)
		_ = w.Write(append(slices.Clone(enrolColumns), "link", "until")) // what cannot be written shows at the end
		for _, e := range made {
			_ = w.Write([]string{e.Name, e.FullName, e.Email, e.Role, e.Team, e.Link, e.ExpiresAt.UTC().Format(time.RFC3339)})
		}
		w.Flush()
	})
	if err == nil && failed > 0 {
		fmt.Fprintf(a.err, "yardbench: of %d links %d were not made\n", len(people), failed)
		return exit(exitRefused)
	}
	return err
}

// writeMail writes a message that any mail program sends (RFC 5322). It is for its owner
// alone: whoever reads it can set up the account.
func writeMail(path, house, from string, e wire.Enrolment) error {
	if e.Email == "" {
		return nil
	}
	when, zone := local(e.ExpiresAt)
	to := (&mail.Address{Name: e.FullName, Address: e.Email}).String()
	subject := mime.QEncoding.Encode("utf-8", "Your account at "+house)
	hello := cmp.Or(e.FullName, e.Name)
	text := fmt.Sprintf("To: %s\r\nSubject: %s\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: 8bit\r\n\r\n"+
		"Hello %s,\r\n\r\nby this link you set up your account, as %s:\r\n\r\n%s\r\n\r\nIt can be used once, until %s%s. Show it to nobody.\r\n\r\n%s\r\n",
		to, subject, clean(hello), e.Name, e.Link, when.Format("2 January 2006 15:04"), zone, clean(from))
	return os.WriteFile(path, []byte(text), 0o600)
}
