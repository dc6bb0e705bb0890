// Package scim is the door by which a house's directory tells who is here, in which
// groups, and who has left: SCIM 2.0 (RFC 7643, RFC 7644). It speaks the protocol and
// calls the use cases; who asks is known before it comes here.
package scim

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/elimity-com/scim"
	scimerrors "github.com/elimity-com/scim/errors"
	"github.com/elimity-com/scim/optional"
	"github.com/elimity-com/scim/schema"

	"yardbench/internal/fault"
	"yardbench/internal/service"
	"yardbench/internal/store"
)

// Path is where it stands at the HTTP door.
const Path = "/scim/v2"

const (
	pageMost = 1000
	bodyMost = 1 << 20
)

type actorKey struct{}

// With has a request asked by somebody.
func With(ctx context.Context, a service.Actor) context.Context {
	return context.WithValue(ctx, actorKey{}, a)
}

func actor(r *http.Request) service.Actor {
	a, _ := r.Context().Value(actorKey{}).(service.Actor)
	return a
}

// Handler answers what is asked below Path, by whom [With] names.
func Handler(d *service.Directory, address string) (http.Handler, error) {
	users, groups := &accounts{d}, &groups{d}
	server, err := scim.NewServer(&scim.ServerArgs{
		ServiceProviderConfig: &scim.ServiceProviderConfig{DocumentationURI: optional.NewString(address + "/"), MaxResults: pageMost, SupportFiltering: true, SupportPatch: true,
			AuthenticationSchemes: []scim.AuthenticationScheme{{Type: scim.AuthenticationTypeOauthBearerToken, Name: "Token", Description: "A token of an account of programs", Primary: true}}},
		ResourceTypes: []scim.ResourceType{
			{ID: optional.NewString("User"), Name: "User", Endpoint: "/Users", Description: optional.NewString("Somebody who may sign in"), Schema: schema.CoreUserSchema(), Handler: users,
				SchemaExtensions: []scim.SchemaExtension{{Schema: schema.ExtensionEnterpriseUser()}}},
			{ID: optional.NewString("Group"), Name: "Group", Endpoint: "/Groups", Description: optional.NewString("People who belong together"), Schema: schema.CoreGroupSchema(), Handler: groups},
		},
	}, scim.WithBaseURL(address+Path))
	if err != nil {
		return nil, fmt.Errorf("the door of the directory: %w", err)
	}
	inner := http.StripPrefix(Path, server)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := http.MaxBytesReader(w, r.Body, bodyMost)
		if r.Method == http.MethodPatch {
			if text, err := io.ReadAll(body); err == nil {
				body = io.NopCloser(bytes.NewReader(plainBooleans(text)))
			}
		}
		r.Body = body
		w.Header().Set("Cache-Control", "no-store")
		inner.ServeHTTP(w, r)
	}), nil
}

// plainBooleans writes as a boolean whether somebody is active, where a change has it
// as a text: some directories write "False".
func plainBooleans(body []byte) []byte {
	var patch map[string]any
	if json.Unmarshal(body, &patch) != nil {
		return body // what is wrong with it is told by whoever reads it
	}
	mend := func(m map[string]any, key string) {
		if s, ok := m[key].(string); ok {
			if is, ok := yes(s); ok {
				m[key] = is
			}
		}
	}
	ops, _ := patch["Operations"].([]any)
	for _, one := range ops {
		op, _ := one.(map[string]any)
		if path, _ := op["path"].(string); strings.EqualFold(path, "active") {
			mend(op, "value")
		}
		if parts, ok := op["value"].(map[string]any); ok {
			for k := range parts {
				if strings.EqualFold(k, "active") {
					mend(parts, k)
				}
			}
		}
	}
	out, err := json.Marshal(patch)
	if err != nil {
		return body
	}
	return out
}

// problem says in the protocol's words what went wrong.
func problem(err error) error {
	f, ok := errors.AsType[*fault.Fault](err)
	if !ok {
		return err
	}
	e := scimerrors.ScimError{Detail: f.Error(), Status: http.StatusBadRequest, ScimType: scimerrors.ScimTypeInvalidValue}
	switch f.Class {
	case fault.Missing:
		e.Status, e.ScimType = http.StatusNotFound, ""
	case fault.Denied:
		e.Status, e.ScimType = http.StatusForbidden, ""
	case fault.Conflict:
		e.Status, e.ScimType = http.StatusConflict, scimerrors.ScimTypeUniqueness
		if f.Kind != "name-taken" {
			e.Status, e.ScimType = http.StatusBadRequest, scimerrors.ScimTypeMutability
		}
	case fault.Stale:
		e.Status, e.ScimType = http.StatusPreconditionFailed, ""
	case fault.TooMany, fault.Away, fault.NoRoom, fault.Stranger, fault.Invalid:
	}
	return e
}

// version is a weak entity tag of a resource (RFC 7644, 3.14).
func version(of ...any) string {
	sum := sha256.Sum256(fmt.Append(nil, of...))
	return `W/"` + hex.EncodeToString(sum[:8]) + `"`
}

// matches tells whether a change was made from what stands now.
func matches(r *http.Request, now string) error {
	want := r.Header.Get("If-Match")
	if want == "" || want == "*" {
		return nil
	}
	for one := range strings.SplitSeq(want, ",") {
		if strings.TrimPrefix(strings.TrimSpace(one), "W/") == strings.TrimPrefix(now, "W/") {
			return nil
		}
	}
	return scimerrors.ScimError{Detail: "it was changed meanwhile; it is " + now, Status: http.StatusPreconditionFailed}
}

func text(v any) string {
	s, _ := v.(string)
	return s
}

// yes reads a boolean, also one that is written as a text, as some directories do.
func yes(v any) (is, ok bool) {
	switch v := v.(type) {
	case bool:
		return v, true
	case string:
		return strings.EqualFold(v, "true"), strings.EqualFold(v, "true") || strings.EqualFold(v, "false")
	}
	return false, false
}

// page cuts what was found to what is asked for.
func page(all []scim.Resource, p scim.ListRequestParams) (scim.Page, error) {
	found := []scim.Resource{}
	for _, r := range all {
		if p.FilterValidator != nil {
			with := map[string]any{"id": r.ID, "externalId": r.ExternalID.Value()}
			for k, v := range r.Attributes {
				with[k] = v
			}
			if err := p.FilterValidator.PassesFilter(with); err != nil {
				continue
			}
		}
		found = append(found, r)
	}
	from := min(max(p.StartIndex, 1)-1, len(found))
	to := min(from+max(min(p.Count, pageMost), 0), len(found))
	return scim.Page{TotalResults: len(found), Resources: found[from:to]}, nil
}

type accounts struct{ d *service.Directory }

func userOf(d store.DirectoryAccount, groups []store.Member) scim.Resource {
	active := d.Person.ClosedAt == nil
	a := scim.ResourceAttributes{"userName": d.UserName, "displayName": d.Person.FullName, "active": active,
		"name":   map[string]any{"formatted": d.Person.FullName, "givenName": d.GivenName, "familyName": d.FamilyName},
		"emails": []any{map[string]any{"value": d.Person.Email, "type": "work", "primary": true}}, "nickName": d.Person.Name}
	in := []any{}
	for _, g := range groups {
		in = append(in, map[string]any{"value": g.GroupID, "display": g.Group})
	}
	if len(in) > 0 {
		a["groups"] = in
	}
	created, changed := d.CreatedAt, d.ChangedAt
	r := scim.Resource{ID: d.Person.ID, Attributes: a, Meta: scim.Meta{Created: &created, LastModified: &changed, Version: version(d.UserName, d.ExternalID, d.Person.FullName, d.Person.Email, d.GivenName, d.FamilyName, active)}}
	if d.ExternalID != "" {
		r.ExternalID = optional.NewString(d.ExternalID)
	}
	return r
}

// accountOf reads what is told of somebody.
func accountOf(a scim.ResourceAttributes) service.Account {
	out := service.Account{UserName: text(a["userName"]), ExternalID: text(a["externalId"]), FullName: text(a["displayName"]), Active: true}
	if is, ok := yes(a["active"]); ok {
		out.Active = is
	}
	if n, ok := a["name"].(map[string]any); ok {
		out.GivenName, out.FamilyName = text(n["givenName"]), text(n["familyName"])
		if out.FullName == "" {
			out.FullName = text(n["formatted"])
		}
	}
	emails, _ := a["emails"].([]any)
	for _, one := range emails {
		m, _ := one.(map[string]any)
		if primary, _ := yes(m["primary"]); primary || out.Email == "" {
			out.Email = text(m["value"])
		}
	}
	return out
}

func (h *accounts) put(r *http.Request, id string, a scim.ResourceAttributes) (scim.Resource, error) {
	d, err := h.d.Put(r.Context(), actor(r), id, accountOf(a))
	if err != nil {
		return scim.Resource{}, problem(err)
	}
	return h.Get(r, d.Person.ID)
}

// Create takes somebody in.
func (h *accounts) Create(r *http.Request, a scim.ResourceAttributes) (scim.Resource, error) {
	return h.put(r, "", a)
}

// Get is one of them.
func (h *accounts) Get(r *http.Request, id string) (scim.Resource, error) {
	d, groups, err := h.d.Account(r.Context(), actor(r), id)
	return userOf(d, groups), problem(err)
}

// GetAll lists them.
func (h *accounts) GetAll(r *http.Request, p scim.ListRequestParams) (scim.Page, error) {
	rows, err := h.d.Accounts(r.Context(), actor(r))
	if err != nil {
		return scim.Page{}, problem(err)
	}
	_, members, err := h.d.Groups(r.Context(), actor(r))
	if err != nil {
		return scim.Page{}, problem(err)
	}
	of := map[string][]store.Member{}
	for _, m := range members {
		of[m.PersonID] = append(of[m.PersonID], m)
	}
	all := make([]scim.Resource, len(rows))
	for i, d := range rows {
		all[i] = userOf(d, of[d.Person.ID])
	}
	return page(all, p)
}

// from finds what a change is made from.
func from(r *http.Request, get func(*http.Request, string) (scim.Resource, error), id string) (scim.Resource, error) {
	now, err := get(r, id)
	if err == nil {
		err = matches(r, now.Meta.Version)
	}
	return now, err
}

// Replace writes somebody anew.
func (h *accounts) Replace(r *http.Request, id string, a scim.ResourceAttributes) (scim.Resource, error) {
	if _, err := from(r, h.Get, id); err != nil {
		return scim.Resource{}, err
	}
	return h.put(r, id, a)
}

// Delete has somebody leave.
func (h *accounts) Delete(r *http.Request, id string) error {
	if _, err := from(r, h.Get, id); err != nil {
		return err
	}
	return problem(h.d.Drop(r.Context(), actor(r), id))
}

// Patch changes parts of what is told of somebody.
func (h *accounts) Patch(r *http.Request, id string, ops []scim.PatchOperation) (scim.Resource, error) {
	now, err := from(r, h.Get, id)
	if err != nil {
		return now, err
	}
	a := now.Attributes
	a["externalId"] = now.ExternalID.Value()
	for _, op := range ops {
		if op.Path == nil {
			parts, _ := op.Value.(map[string]any)
			for k, v := range parts {
				change(a, k, "", op.Op, v)
			}
			continue
		}
		sub := ""
		if op.Path.SubAttribute != nil {
			sub = *op.Path.SubAttribute
		} else if op.Path.AttributePath.SubAttribute != nil {
			sub = *op.Path.AttributePath.SubAttribute
		}
		change(a, op.Path.AttributePath.AttributeName, sub, op.Op, op.Value)
	}
	return h.put(r, id, a)
}

// known are the attributes that are kept, by their names in small letters: names are
// read in whatever case (RFC 7643, 2.1). Others are taken and forgotten.
var known = map[string]string{"username": "userName", "externalid": "externalId", "displayname": "displayName", "active": "active", "name": "name", "emails": "emails"}

func change(a scim.ResourceAttributes, attribute, sub, op string, v any) {
	if whole, part, ok := strings.Cut(attribute, "."); ok && sub == "" { // without a path some write name.givenName
		attribute, sub = whole, part
	}
	name, ok := known[strings.ToLower(attribute)]
	if !ok {
		return
	}
	remove := strings.EqualFold(op, scim.PatchOperationRemove)
	switch {
	case name == "name" && sub != "":
		n, _ := a["name"].(map[string]any)
		if n == nil {
			n = map[string]any{}
		}
		for _, field := range []string{"formatted", "givenName", "familyName"} {
			if strings.EqualFold(field, sub) {
				if n[field] = v; remove {
					delete(n, field)
				}
			}
		}
		a["name"] = n
	case name == "emails" && sub != "": // emails[type eq "work"].value: one address is kept
		if strings.EqualFold(sub, "value") && !remove {
			a["emails"] = []any{map[string]any{"value": v, "primary": true}}
		}
	case name == "emails":
		if one, ok := v.(map[string]any); ok {
			v = []any{one}
		}
		if a["emails"] = v; remove {
			delete(a, "emails")
		}
	case remove:
		delete(a, name)
	default:
		a[name] = v
	}
}

type groups struct{ d *service.Directory }

func groupOf(g store.DirectoryGroup, members []store.Member) scim.Resource {
	in, ids := []any{}, []string{}
	for _, m := range members {
		in = append(in, map[string]any{"value": m.PersonID, "display": m.UserName})
		ids = append(ids, m.PersonID)
	}
	a := scim.ResourceAttributes{"displayName": g.Name}
	if len(in) > 0 {
		a["members"] = in
	}
	created, changed := g.CreatedAt, g.ChangedAt
	r := scim.Resource{ID: g.ID, Attributes: a, Meta: scim.Meta{Created: &created, LastModified: &changed, Version: version(g.Name, g.ExternalID, ids)}}
	if g.ExternalID != "" {
		r.ExternalID = optional.NewString(g.ExternalID)
	}
	return r
}

// membersOf reads the ids of members.
func membersOf(v any) (ids []string) {
	if one, ok := v.(map[string]any); ok {
		v = []any{one}
	}
	all, _ := v.([]any)
	for _, one := range all {
		if m, ok := one.(map[string]any); ok {
			if id := text(m["value"]); id != "" {
				ids = append(ids, id)
			}
		} else if id := text(one); id != "" {
			ids = append(ids, id)
		}
	}
	return ids
}

func (h *groups) put(r *http.Request, id, name, external string, members []string) (scim.Resource, error) {
	g, err := h.d.PutGroup(r.Context(), actor(r), id, name, external, members)
	if err != nil {
		return scim.Resource{}, problem(err)
	}
	return h.Get(r, g.ID)
}

// Create adds a group.
func (h *groups) Create(r *http.Request, a scim.ResourceAttributes) (scim.Resource, error) {
	return h.put(r, "", text(a["displayName"]), text(a["externalId"]), membersOf(a["members"]))
}

// Get is one of them.
func (h *groups) Get(r *http.Request, id string) (scim.Resource, error) {
	g, members, err := h.d.Group(r.Context(), actor(r), id)
	return groupOf(g, members), problem(err)
}

// GetAll lists them.
func (h *groups) GetAll(r *http.Request, p scim.ListRequestParams) (scim.Page, error) {
	rows, members, err := h.d.Groups(r.Context(), actor(r))
	if err != nil {
		return scim.Page{}, problem(err)
	}
	of := map[string][]store.Member{}
	for _, m := range members {
		of[m.GroupID] = append(of[m.GroupID], m)
	}
	all := make([]scim.Resource, len(rows))
	for i, g := range rows {
		all[i] = groupOf(g, of[g.ID])
	}
	return page(all, p)
}

// Replace writes one anew.
func (h *groups) Replace(r *http.Request, id string, a scim.ResourceAttributes) (scim.Resource, error) {
	if _, err := from(r, h.Get, id); err != nil {
		return scim.Resource{}, err
	}
	return h.put(r, id, text(a["displayName"]), text(a["externalId"]), membersOf(a["members"]))
}

// Delete removes one.
func (h *groups) Delete(r *http.Request, id string) error {
	if _, err := from(r, h.Get, id); err != nil {
		return err
	}
	return problem(h.d.DropGroup(r.Context(), actor(r), id))
}

// Patch changes its name, or who is in it.
func (h *groups) Patch(r *http.Request, id string, ops []scim.PatchOperation) (scim.Resource, error) {
	now, err := from(r, h.Get, id)
	if err != nil {
		return now, err
	}
	name, external := text(now.Attributes["displayName"]), now.ExternalID.Value()
	in := map[string]bool{}
	for _, m := range membersOf(now.Attributes["members"]) {
		in[m] = true
	}
	apply := func(attribute, op string, v any, one string) {
		switch strings.ToLower(attribute) {
		case "displayname":
			name = text(v)
		case "externalid":
			external = text(v)
		case "members":
			ids := membersOf(v)
			switch {
			case strings.EqualFold(op, scim.PatchOperationAdd):
				for _, m := range ids {
					in[m] = true
				}
			case strings.EqualFold(op, scim.PatchOperationRemove) && one != "":
				delete(in, one)
			case strings.EqualFold(op, scim.PatchOperationRemove) && len(ids) > 0:
				for _, m := range ids {
					delete(in, m)
				}
			default: // all of them are replaced, or removed
				clear(in)
				for _, m := range ids {
					in[m] = true
				}
			}
		}
	}
	for _, op := range ops {
		if op.Path == nil {
			parts, _ := op.Value.(map[string]any)
			for k, v := range parts {
				apply(k, op.Op, v, "")
			}
			continue
		}
		one := ""
		if op.Path.ValueExpression != nil { // members[value eq "ID"]
			if _, after, ok := strings.Cut(fmt.Sprint(op.Path.ValueExpression), `"`); ok {
				one, _, _ = strings.Cut(after, `"`)
			}
		}
		apply(op.Path.AttributePath.AttributeName, op.Op, op.Value, one)
	}
	var members []string
	for m := range in {
		members = append(members, m)
	}
	return h.put(r, id, name, external, members)
}
