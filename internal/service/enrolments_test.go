package service

import (
	"strings"
	"testing"

	"yardbench/wire"
)

// A link for somebody sets up the account of that name and of no other; what was not said
// of them is theirs to say.
func TestLinksForSomebody(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	for _, in := range []wire.NewEnrolment{{Name: "Anna"}, {Name: "anna", Email: "no address"}, {FullName: "Anna Berg"}, {Name: "anna", FullName: "An\u202ena"}, {Name: "anna", Person: "ingrid"}} {
		if _, err := s.People.Enrol(ctx, astrid, in); status(err) != 422 {
			t.Errorf("%+v is answered %v", in, err)
		}
	}
	if _, err := s.People.Enrol(ctx, astrid, wire.NewEnrolment{Name: "ingrid"}); status(err) != 409 {
		t.Errorf("a name that somebody has is answered %v", err)
	}
	if _, err := s.People.Enrol(ctx, ingrid, wire.NewEnrolment{Name: "anna"}); status(err) != 403 {
		t.Errorf("a developer is answered %v", err)
	}
	made, err := s.People.Enrol(ctx, astrid, wire.NewEnrolment{Name: "anna", FullName: " Anna Berg ", Role: "lead"})
	if err != nil || made.Name != "anna" || made.FullName != "Anna Berg" {
		t.Fatalf("made is %+v, %v", made, err)
	}
	_, key, _ := strings.Cut(made.Link, "#")
	offer, err := s.People.Offer(ctx, key)
	if err != nil || offer.Name != "anna" || offer.FullName != "Anna Berg" || offer.Email != "" || offer.Role != "lead" {
		t.Errorf("offered is %+v, %v", offer, err)
	}
	if open, err := s.People.Enrolments(ctx, astrid); err != nil || len(open) != 1 || open[0].Name != "anna" {
		t.Errorf("open are %+v, %v", open, err)
	}
	use := wire.EnrolmentUse{Key: key, Password: "tide over the skerry", Email: "anna@skerryline.example", FullName: "Somebody Else", Name: "boss"}
	if _, err := s.People.UseEnrolment(ctx, use); status(err) != 422 || !strings.Contains(err.Error(), "for “anna”") {
		t.Errorf("another name is answered %v", err)
	}
	use.Name = ""
	if p, err := s.People.UseEnrolment(ctx, use); err != nil || p.Name != "anna" || p.FullName != "Anna Berg" || p.Email != "anna@skerryline.example" || p.Role != "lead" {
		t.Errorf("set up is %+v, %v", p, err)
	}
	if _, err := s.People.UseEnrolment(ctx, use); status(err) != 404 {
		t.Errorf("used twice it is answered %v", err)
	}
}
