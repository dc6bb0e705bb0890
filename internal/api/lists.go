package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/page"
	"yardbench/internal/core/secret"
	"yardbench/internal/service"
	"yardbench/wire"
)

// Page says which part of a list is wanted.
type Page struct {
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"How many at most"`
	After string `query:"after" maxLength:"2000" doc:"What the part before gave as next; without it from the beginning"`
	Sort  string `query:"sort" maxLength:"40"`
}

func (p Page) ask() page.Ask { return page.Ask{Limit: p.Limit, After: p.After, Sort: p.Sort} }

// asks is an input that says which part of a list is wanted: it embeds [Page].
type asks interface{ ask() page.Ask }

// list registers an operation that gives a part of a list, which is short enough
// to be read as a whole.
func list[In asks, T any](a *API, o huma.Operation, kind page.Kind[T], do func(ctx context.Context, who service.Actor, in *In) ([]T, error)) {
	kind.Name = o.OperationID // what continues one list continues no other
	parts(a, o, kind.Names(), func(ctx context.Context, who service.Actor, in *In) (service.Part[T], error) {
		all, err := do(ctx, who, in)
		if err != nil {
			return service.Part[T]{}, err
		}
		return service.PartOf(kind, all, (*in).ask())
	})
}

// parts registers an operation that gives a part of a list, in one of some orders.
func parts[In, T any](a *API, o huma.Operation, orders []string, do func(ctx context.Context, who service.Actor, in *In) (service.Part[T], error)) {
	answer(a, o, func(ctx context.Context, who service.Actor, in *In) (wire.List[T], error) {
		asOf, err := a.svc.Journal.Newest(ctx) // before the list: what comes between is told twice, not never
		if err != nil {
			return wire.List[T]{}, err
		}
		part, err := do(ctx, who, in)
		if part.Items == nil {
			part.Items = []T{}
		}
		return wire.List[T]{Items: part.Items, Next: part.Next, AsOf: asOf}, err
	})
	for _, p := range a.huma.OpenAPI().Paths[o.Path].Get.Parameters {
		if p.Name == "sort" {
			p.Description = "The order, one of " + strings.Join(orders, ", ") + "; with a minus before it turned about"
		}
	}
}

// named is a kind of list whose things have a name of their own.
func named[T any](order string, name func(T) string) page.Kind[T] {
	return page.Kind[T]{ID: name, Orders: []page.Order[T]{{Name: order, Key: name}}}
}

// The lists that are short enough to be read as a whole, each with its orders.
var (
	keptKind       = named("name", func(v wire.Kept) string { return v.Name })
	repositoryKind = named("name", func(v wire.Repository) string { return v.Name })
	starterKind    = named("name", func(v wire.Starter) string { return v.Name })
	changesKind    = named("folder", func(v wire.Changes) string { return v.Folder })
	terminalKind   = named("label", func(v wire.Terminal) string { return v.Label })
	lookKind       = named("owner", func(v wire.Look) string {
		return v.Owner + "\x00" + v.Workspace + "\x00" + v.Terminal + "\x00" + v.Person
	})
	serviceKind    = named("name", func(v wire.Service) string { return v.Name })
	credentialKind = named("host", func(v wire.KnownCredential) string { return v.Host })
	passkeyKind    = named("id", func(v wire.Passkey) string { return v.ID })
	sealingKind    = named("id", func(v wire.SealingKey) string { return v.ID })
	gitHostKind    = named("host", func(v wire.GitHost) string { return v.Host })
	hostedKind     = named("url", func(v wire.HostedRepository) string { return v.URL })
	teamKind       = named("name", func(v wire.Team) string { return v.Name })
	secretKind     = named("name", func(v wire.Secret) string { return v.Name })
	choiceKind     = named("name", func(v wire.SecretChoice) string {
		return v.Name + "\x00" + map[bool]string{true: "0", false: "1"}[v.Given] + strconv.Itoa(slices.Index(secret.Levels, secret.Level(v.Level))) + v.Whose
	})
	planKind      = named("repository", func(v wire.PrebuildPlan) string { return v.Repository + "\x00" + v.Branch })
	strayKind     = named("id", func(v wire.Stray) string { return v.ID })
	containerKind = named("name", func(v wire.Container) string { return v.Name })
	portKind      = named("number", func(v wire.Port) string { return page.Number(int64(v.Number)) })
	lookLinkKind  = page.Kind[wire.LookLink]{ID: func(v wire.LookLink) string { return v.ID }, Orders: []page.Order[wire.LookLink]{
		{Name: "made_at", Key: func(v wire.LookLink) string { return moment(v.MadeAt) }},
		{Name: "until", Key: func(v wire.LookLink) string { return moment(v.Until) }},
	}}
	recordingKind = page.Kind[wire.Recording]{ID: func(v wire.Recording) string { return v.ID }, Usual: "-began_at", Orders: []page.Order[wire.Recording]{
		{Name: "began_at", Key: func(v wire.Recording) string { return moment(v.BeganAt) }},
	}}
	attentionKind = page.Kind[wire.Attention]{ID: func(v wire.Attention) string { return v.ID }, Orders: []page.Order[wire.Attention]{
		{Name: "rank", Key: func(v wire.Attention) string { return page.Number(int64(v.Rank)) }},
		{Name: "since", Key: func(v wire.Attention) string { return moment(v.Since) }},
	}}
	repositoryBranchKind = page.Kind[wire.RepositoryBranch]{ID: func(v wire.RepositoryBranch) string { return v.Name }, Usual: "-at", Orders: []page.Order[wire.RepositoryBranch]{
		{Name: "at", Key: func(v wire.RepositoryBranch) string { return moment(v.At) }},
		{Name: "name", Key: func(v wire.RepositoryBranch) string { return v.Name }},
	}}
	openingKind = named("area", func(v wire.Opening) string { return page.Number(int64(slices.Index(areas, v.Area))) + v.Kind + v.What })
	branchKind  = page.Kind[wire.CloneBranch]{ID: func(v wire.CloneBranch) string { return fmt.Sprint(v.Remote, v.Name) }, Usual: "-at", Orders: []page.Order[wire.CloneBranch]{
		{Name: "at", Key: func(v wire.CloneBranch) string { return page.Number(v.At.Unix()) }},
		{Name: "name", Key: func(v wire.CloneBranch) string { return v.Name }},
	}}
	sizeKind = page.Kind[wire.SizeOffer]{ID: func(v wire.SizeOffer) string { return v.Name }, Orders: []page.Order[wire.SizeOffer]{
		{Name: "size", Key: func(v wire.SizeOffer) string { return page.Number(v.CoresMilli) + page.Number(v.MemoryBytes) }},
		{Name: "name", Key: func(v wire.SizeOffer) string { return v.Name }},
	}}
	personKind = page.Kind[wire.Person]{ID: func(v wire.Person) string { return v.Name }, Orders: []page.Order[wire.Person]{
		{Name: "name", Key: func(v wire.Person) string { return v.Name }},
		{Name: "full_name", Key: func(v wire.Person) string { return v.FullName }},
		{Name: "role", Key: func(v wire.Person) string { return v.Role + "\x00" + v.Name }},
		{Name: "team", Key: func(v wire.Person) string { return v.Team + "\x00" + v.Name }},
	}}
	guestKind     = named("name", func(v wire.Guest) string { return v.Name })
	enrolmentKind = page.Kind[wire.OpenEnrolment]{ID: func(v wire.OpenEnrolment) string { return v.ID }, Orders: []page.Order[wire.OpenEnrolment]{
		{Name: "expires_at", Key: func(v wire.OpenEnrolment) string { return moment(v.ExpiresAt) }},
	}}
	keyKind = page.Kind[wire.SSHKey]{ID: func(v wire.SSHKey) string { return v.ID }, Usual: "-added_at", Orders: []page.Order[wire.SSHKey]{
		{Name: "added_at", Key: func(v wire.SSHKey) string { return moment(v.AddedAt) }},
		{Name: "comment", Key: func(v wire.SSHKey) string { return v.Comment }},
	}}
	tokenKind = page.Kind[wire.Token]{ID: func(v wire.Token) string { return v.ID }, Usual: "-created_at", Orders: []page.Order[wire.Token]{
		{Name: "created_at", Key: func(v wire.Token) string { return moment(v.CreatedAt) }},
		{Name: "expires_at", Key: func(v wire.Token) string { return moment(v.ExpiresAt) }},
		{Name: "name", Key: func(v wire.Token) string { return v.Name }},
	}}
	launchLinkKind = page.Kind[wire.LaunchLink]{ID: func(v wire.LaunchLink) string { return v.ID }, Usual: "-created_at", Orders: []page.Order[wire.LaunchLink]{
		{Name: "created_at", Key: func(v wire.LaunchLink) string { return moment(v.CreatedAt) }},
		{Name: "title", Key: func(v wire.LaunchLink) string { return v.Title }},
	}}
	linkUseKind = page.Kind[wire.LinkUse]{ID: func(v wire.LinkUse) string { return v.Person }, Usual: "-at", Orders: []page.Order[wire.LinkUse]{
		{Name: "at", Key: func(v wire.LinkUse) string { return moment(v.At) }},
		{Name: "person", Key: func(v wire.LinkUse) string { return v.Person }},
	}}
	providerKind = page.Kind[wire.Provider]{ID: func(v wire.Provider) string { return v.Name }, Orders: []page.Order[wire.Provider]{
		{Name: "name", Key: func(v wire.Provider) string { return v.Name }},
	}}
	webhookKind = page.Kind[wire.Webhook]{ID: func(v wire.Webhook) string { return v.ID }, Orders: []page.Order[wire.Webhook]{
		{Name: "created_at", Key: func(v wire.Webhook) string { return moment(v.CreatedAt) }},
		{Name: "url", Key: func(v wire.Webhook) string { return v.URL }},
	}}
	deliveryKind = page.Kind[wire.Delivery]{ID: func(v wire.Delivery) string { return page.Number(v.Entry) + page.Number(int64(v.Attempt)) }, Usual: "-at", Orders: []page.Order[wire.Delivery]{
		{Name: "at", Key: func(v wire.Delivery) string { return moment(v.At) }},
	}}
	runKind = page.Kind[wire.PrebuildRun]{ID: func(v wire.PrebuildRun) string { return v.ID }, Usual: "-number", Orders: []page.Order[wire.PrebuildRun]{
		{Name: "number", Key: func(v wire.PrebuildRun) string { return page.Number(int64(v.Number)) }},
	}}
)

// areas are those of what is open, in the order in which they are told.
var areas = []string{"way in", "people", "house rules", "git", "yard"}

func moment(t time.Time) string { return page.Number(t.UnixMicro()) }
