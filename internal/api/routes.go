package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func jsonBytes(v any) ([]byte, error) { return json.Marshal(v) }

// out is an answer with a body.
type out[T any] struct{ Body T }

type none struct{}

// WorkspacePage is a part of a list of something that a workspace has.
type WorkspacePage struct {
	Workspace
	Page
}

// Workspace is a workspace in a path: NAME, or NAME.OWNER for somebody else's.
type Workspace struct {
	Ref string `path:"workspace" maxLength:"80" doc:"NAME, or NAME.OWNER for somebody else's"`
}

// actionKey is where the description of an operation says which action of the
// policy it is.
const actionKey = "x-yardbench-action"

// op describes an operation, and which action of the policy it is; none is one
// for strangers.
func op(method, path, id, summary string, action policy.Action) huma.Operation {
	noun, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	errs := []int{http.StatusUnprocessableEntity, http.StatusTooManyRequests, http.StatusServiceUnavailable}
	if action != "" {
		errs = append(errs, http.StatusUnauthorized, http.StatusForbidden)
	}
	if strings.Contains(path, "{") {
		errs = append(errs, http.StatusNotFound)
	}
	if method != http.MethodGet {
		errs = append(errs, http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusInsufficientStorage)
	}
	return huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Tags: []string{noun}, Extensions: map[string]any{actionKey: action}, Errors: errs}
}

// answer registers an operation whose use case gives a value.
func answer[In, Out any](a *API, o huma.Operation, do func(ctx context.Context, who service.Actor, in *In) (Out, error)) {
	var some Out
	if _, tagged := any(some).(service.Tagged); tagged {
		huma.Register(a.huma, o, func(ctx context.Context, in *In) (*taggedOut[Out], error) {
			v, err := do(ctx, actor(ctx), in)
			if err != nil {
				return nil, err
			}
			return &taggedOut[Out]{tagOf(v), v}, nil
		})
		return
	}
	huma.Register(a.huma, o, func(ctx context.Context, in *In) (*out[Out], error) {
		v, err := do(ctx, actor(ctx), in)
		if err != nil {
			return nil, err
		}
		return &out[Out]{v}, nil
	})
}

// done registers an operation whose use case gives nothing: 204.
func done[In any](a *API, o huma.Operation, do func(ctx context.Context, who service.Actor, in *In) error) {
	o.DefaultStatus = http.StatusNoContent
	huma.Register(a.huma, o, func(ctx context.Context, in *In) (*none, error) { return nil, do(ctx, actor(ctx), in) })
}

func workspacePlace(v wire.Workspace) string {
	return "/workspaces/" + url.PathEscape(v.Name+"."+v.Owner)
}

func (a *API) routes() {
	s := a.svc
	health := op("GET", "/health", "health", "Whether the service is well", "")
	health.Metadata = public
	answer(a, health, func(ctx context.Context, _ service.Actor, _ *none) (wire.Health, error) {
		h := s.Health.Health()
		h.Announcement = s.Health.Announced(ctx)
		return h, nil
	})
	list(a, op("GET", "/openings", "list-openings", "What of the installation is open, and how it is closed", policy.ChangeRules), openingKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Opening, error) {
			return s.Openings.Openings(ctx, who)
		})
	signInRoutes(a)

	list(a, op("GET", "/repositories", "list-repositories", "List the registered repositories", policy.SeeRepositories), repositoryKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Repository, error) {
			return s.Repositories.Repositories(ctx, who)
		})
	answer(a, op("GET", "/repositories/{repository}", "show-repository", "Show a repository", policy.SeeRepositories),
		func(ctx context.Context, who service.Actor, in *RepositoryPath) (wire.Repository, error) {
			return s.Repositories.Repository(ctx, who, in.Repository)
		})
	made(a, op("POST", "/repositories", "add-repository", "Register a repository", policy.ChangeRepository),
		func(v wire.Repository) string { return "/repositories/" + url.PathEscape(v.Name) }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewRepository }) (wire.Repository, error) {
			return s.Repositories.AddRepository(ctx, who, in.Body)
		})

	list(a, op("GET", "/repositories/{repository}/branches", "list-repository-branches", "List the branches of a repository, those with the newest commits first", policy.SeeRepositories), repositoryBranchKind,
		func(ctx context.Context, who service.Actor, in *struct {
			Page
			Repository string `path:"repository"`
		}) ([]wire.RepositoryBranch, error) {
			return s.Prebuilds.Branches(ctx, who, in.Repository)
		})
	answer(a, op("GET", "/repositories/{repository}/definition", "check-definition", "What a repository's environment definition comes to, and what is wrong with it", policy.SeeRepositories),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryBranch
			Name string `query:"name" doc:"The folder of the definition under .devcontainer; default: the first one"`
		}) (wire.DefinitionCheck, error) {
			return s.Definitions.CheckDefinition(ctx, who, in.Repository, in.Branch, in.Name)
		})

	answer(a, op("GET", "/repositories/{repository}/definition/changes", "compare-definitions", "What differs between the definitions of two branches, and what that makes due", policy.SeeRepositories),
		func(ctx context.Context, who service.Actor, in *struct {
			RepositoryBranch
			Since string `query:"since" doc:"The branch to begin from; default: the repository's own"`
			Name  string `query:"name" doc:"The folder of the definition under .devcontainer; default: the first one"`
		}) (wire.DefinitionChanges, error) {
			return s.Definitions.CompareDefinitions(ctx, who, in.Repository, in.Since, in.Branch, in.Name)
		})

	list(a, op("GET", "/starters", "list-starters", "List the starters: ready definitions for a new project", policy.SeeRepositories), starterKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Starter, error) {
			return s.Starters.Starters(ctx, who)
		})
	type StarterPath struct {
		Starter string `path:"starter" maxLength:"128"`
	}
	answer(a, op("GET", "/starters/{starter}", "show-starter", "Show a starter", policy.SeeRepositories),
		func(ctx context.Context, who service.Actor, in *StarterPath) (wire.Starter, error) {
			all, err := s.Starters.Starters(ctx, who)
			return service.One(all, err, func(v wire.Starter) bool { return v.Name == in.Starter }, "starter", in.Starter)
		})
	answer(a, op("POST", "/starters/{starter}", "fill-starter", "The files of a starter, with what was chosen in them", policy.SeeRepositories),
		func(ctx context.Context, who service.Actor, in *struct {
			StarterPath
			Body wire.FillStarter
		}) (wire.FilledStarter, error) {
			return s.Starters.FillStarter(ctx, who, in.Starter, in.Body)
		})
	list(a, op("GET", "/workspaces/{workspace}/services", "list-services", "List the services beside a workspace", policy.SeeWorkspace), serviceKind,
		func(ctx context.Context, who service.Actor, in *WorkspacePage) ([]wire.Service, error) {
			return s.Sessions.Services(ctx, who, in.Ref)
		})
	answer(a, op("GET", "/workspaces/{workspace}/services/{service}", "show-service", "Show a service beside a workspace", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Service string `path:"service" maxLength:"128"`
		}) (wire.Service, error) {
			all, err := s.Sessions.Services(ctx, who, in.Ref)
			return service.One(all, err, func(v wire.Service) bool { return v.Name == in.Service }, "service", in.Service)
		})

	parts(a, op("GET", "/workspaces", "list-workspaces", "List your workspaces", policy.SeeWorkspace), service.WorkspaceOrders,
		func(ctx context.Context, who service.Actor, in *struct {
			Page
			All        bool     `query:"all" doc:"Everybody's whom you may see"`
			Owner      string   `query:"owner" maxLength:"64"`
			Team       string   `query:"team" maxLength:"40"`
			Repository string   `query:"repository" maxLength:"64"`
			Branch     string   `query:"branch" maxLength:"256"`
			Size       string   `query:"size" maxLength:"20"`
			State      []string `query:"state,explode" maxItems:"30" doc:"Phases and conditions, like ready or set-up failed: those of which one is so"`
			Find       string   `query:"find" maxLength:"200" doc:"A part of the name, the owner, the repository or the branch, whatever its case"`
			Cause      string   `query:"cause" maxLength:"20" doc:"The id of what needs somebody: those that do for it"`
		}) (service.Part[wire.WorkspaceRow], error) {
			return s.Workspaces.List(ctx, who, service.WorkspaceQuery{All: in.All, Owner: in.Owner, Team: in.Team, Repository: in.Repository, Branch: in.Branch, Size: in.Size,
				States: in.State, Find: in.Find, Cause: in.Cause, Ask: in.ask()})
		})
	launch := op("POST", "/workspaces", "launch", "Launch a workspace; it is accepted, and comes up after the answer", policy.Launch)
	launch.DefaultStatus = http.StatusAccepted
	made(a, launch, workspacePlace, s.Workspaces.Made, func(ctx context.Context, who service.Actor, in *struct{ Body wire.Launch }) (wire.Workspace, error) {
		return s.Launches.Launch(ctx, who, in.Body)
	})
	answer(a, op("POST", "/preflight", "preflight", "What a launch would come to, without launching", policy.Launch),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.Launch }) (wire.Preflight, error) {
			return s.Launches.Preflight(ctx, who, in.Body)
		})
	answer(a, op("GET", "/workspaces/{workspace}", "show-workspace", "Show a workspace", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Workspaces.Show(ctx, who, in.Ref)
		})
	parts(a, op("GET", "/workspaces/{workspace}/sheets", "list-sheets", "List a workspace's launch sheets, the newest first", policy.SeeWorkspace), []string{"number"},
		func(ctx context.Context, who service.Actor, in *WorkspacePage) (service.Part[wire.SheetRow], error) {
			return s.Workspaces.Sheets(ctx, who, in.Ref, in.ask())
		})
	answer(a, op("GET", "/workspaces/{workspace}/sheets/{sheet}", "show-sheet", "Show a launch sheet with its steps", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Sheet int `path:"sheet" minimum:"0" doc:"Its number; 0 is the newest"`
		}) (wire.Sheet, error) {
			return s.Workspaces.Sheet(ctx, who, in.Ref, in.Sheet)
		})
	answer(a, op("GET", "/workspaces/{workspace}/work", "show-work", "Show what in a workspace exists nowhere else", policy.SeeWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Work, error) {
			return s.Workspaces.Work(ctx, who, in.Ref)
		})
	verb := func(path, id, summary string, action policy.Action) huma.Operation {
		return op("POST", "/workspaces/{workspace}/"+path, id, summary, action)
	}
	asked(a, verb("start", "start-workspace", "Start a stopped or failed workspace", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Workspaces.Start(ctx, who, in.Ref)
		})
	asked(a, verb("stop", "stop-workspace", "Stop a workspace; its files stay", policy.StopWorkspace),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Workspaces.Stop(ctx, who, in.Ref)
		})
	asked(a, verb("rebuild", "rebuild-workspace", "Make a workspace's container anew from the branch's head", policy.DriveWorkspace),
		func(ctx context.Context, who service.Actor, in *struct {
			Workspace
			Body wire.Rebuild
		}) (wire.Workspace, error) {
			return s.Workspaces.Rebuild(ctx, who, in.Ref, in.Body)
		})
	list(a, op("GET", "/containers", "list-containers", "List the containers in the yard that others started and that belong to nobody", policy.AdoptContainers), containerKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Container, error) {
			return s.Adoptions.Containers(ctx, who)
		})
	type ContainerPath struct {
		Container string `path:"container" maxLength:"256" doc:"Its name, or its id"`
	}
	answer(a, op("GET", "/containers/{container}", "show-container", "Show a container that belongs to nobody", policy.AdoptContainers),
		func(ctx context.Context, who service.Actor, in *ContainerPath) (wire.Container, error) {
			all, err := s.Adoptions.Containers(ctx, who)
			return service.One(all, err, func(v wire.Container) bool { return v.Name == in.Container || v.ID == in.Container }, "container", in.Container)
		})
	list(a, op("GET", "/container-sizes", "list-container-sizes", "List what a container that is taken on may count for", policy.AdoptContainers), sizeKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.SizeOffer, error) {
			return s.Adoptions.Sizes(ctx, who)
		})
	adopt := op("POST", "/containers/{container}/adopt", "adopt-container", "Take a container on as somebody's workspace", policy.AdoptContainers)
	adopt.DefaultStatus = http.StatusAccepted
	made(a, adopt, workspacePlace, s.Workspaces.Made, func(ctx context.Context, who service.Actor, in *struct {
		ContainerPath
		Body wire.Adopt
	}) (wire.Workspace, error) {
		return s.Adoptions.Adopt(ctx, who, in.Container, in.Body)
	})
	asked(a, verb("let-go", "let-go", "Let an adopted container go; it goes on as it is", policy.AdoptContainers),
		func(ctx context.Context, who service.Actor, in *Workspace) (wire.Workspace, error) {
			return s.Adoptions.LetGo(ctx, who, in.Ref)
		})
	remove := op("DELETE", "/workspaces/{workspace}", "remove-workspace", "Remove a workspace with its files", policy.RemoveWorkspace)
	remove.DefaultStatus = http.StatusAccepted
	remove = matching(remove)
	answer(a, remove, func(ctx context.Context, who service.Actor, in *struct {
		Workspace
		Discard bool `query:"discard" doc:"Even when work in it exists nowhere else"`
	}) (wire.Workspace, error) {
		return s.Workspaces.Remove(ctx, who, in.Ref, in.Discard)
	})

	answer(a, matching(op("PATCH", "/repositories/{repository}", "change-repository", "Change whose a repository is, where it is, and its default branch", policy.ChangeRepository)),
		func(ctx context.Context, who service.Actor, in *struct {
			Repository string `path:"repository" maxLength:"64"`
			Body       wire.RepositoryChange
		}) (wire.Repository, error) {
			return s.Repositories.ChangeRepository(ctx, who, in.Repository, in.Body)
		})
	done(a, matching(op("DELETE", "/repositories/{repository}", "remove-repository", "Have a repository registered no more, with its prebuild plans and secrets", policy.ChangeRepository)),
		func(ctx context.Context, who service.Actor, in *struct {
			Repository string `path:"repository" maxLength:"64"`
		}) error {
			return s.Repositories.RemoveRepository(ctx, who, in.Repository)
		})
	list(a, op("GET", "/git-credentials", "list-git-credentials", "List what you sign in to git hosts with, but for the secrets", policy.SeeSelf), credentialKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.KnownCredential, error) {
			return s.GitHosts.GitCredentials(ctx, who)
		})
	answer(a, op("GET", "/git-credentials/{host}", "show-git-credential", "Show what you sign in to a git host with, but for the secret", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *HostPath) (wire.KnownCredential, error) {
			all, err := s.GitHosts.GitCredentials(ctx, who)
			return service.One(all, err, func(v wire.KnownCredential) bool { return v.Host == in.Host }, "credential for", in.Host)
		})
	done(a, op("DELETE", "/git-credentials/{host}", "drop-git-credential", "Forget what you sign in to a git host with", policy.ChangeSelf), func(ctx context.Context, who service.Actor, in *HostPath) error {
		return s.GitHosts.DropGitCredential(ctx, who, in.Host)
	})
	done(a, op("PUT", "/git-credentials/{host}", "put-git-credential", "Set what you sign in to a git host with", policy.ChangeSelf), func(ctx context.Context, who service.Actor, in *struct {
		HostPath
		Body wire.GitCredential
	}) error {
		return s.GitHosts.PutGitCredential(ctx, who, in.Host, in.Body)
	})
	peopleRoutes(a)
	secretRoutes(a)
	guestRoutes(a)
	quarantineRoutes(a)
	operationRoutes(a)
	stayRoutes(a)
	programRoutes(a)
	sshRoutes(a)
	rulesRoutes(a)
	costRoutes(a)
	prebuildRoutes(a)
	portRoutes(a)
	logRoute(a)
	serviceLogRoute(a)
	fileRoutes(a)
	benchRoutes(a)
	changeRoutes(a)
	journalRoutes(a)
	webhookRoutes(a)
	launchLinkRoutes(a)
	providerRoutes(a)
	gitHostRoutes(a)
	sealingRoutes(a)
	passkeyRoutes(a)
	directoryRoutes(a)
	clientRoutes(a)
	keptRoutes(a)
	eventRoute(a)
	attentionRoutes(a)
	sessionRoute(a)
	document := op("GET", "/openapi.json", "openapi", "This description", policy.SeeSelf)
	huma.Register(a.huma, document, func(context.Context, *none) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(c huma.Context) {
			body, err := a.OpenAPI()
			if err != nil {
				c.SetStatus(http.StatusInternalServerError)
				return
			}
			c.SetHeader("Content-Type", "application/vnd.oai.openapi+json")
			_, _ = c.BodyWriter().Write(body) // whoever asked may be gone
		}}, nil
	})
}

func signInRoutes(a *API) {
	type signIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.SignedIn
	}
	o := op("POST", "/sign-in", "sign-in", "Sign in with a name and password", "")
	o.Metadata = public
	o.Security = []map[string][]string{}
	huma.Register(a.huma, o, func(ctx context.Context, in *struct {
		Door string `query:"door" enum:"cli,console" default:"cli" doc:"The console gets a cookie, others a token"`
		Body wire.SignIn
	}) (*signIn, error) {
		v, err := a.svc.SignIns.SignIn(ctx, in.Body, in.Door, caller(ctx))
		if err != nil {
			return nil, err
		}
		answer := &signIn{Body: v}
		if in.Door == "console" {
			answer.SetCookie = http.Cookie{Name: a.cookieName(), Value: v.Token, Path: "/", Expires: v.ExpiresAt, HttpOnly: true,
				SameSite: http.SameSiteStrictMode, Secure: a.Secure}
			answer.Body.Token = ""
		}
		return answer, nil
	})
	done(a, op("POST", "/sign-out", "sign-out", "End this sign-in", policy.ChangeSelf), func(ctx context.Context, who service.Actor, _ *none) error { return a.svc.SignIns.SignOut(ctx, who) })
	answer(a, op("POST", "/me/sign-in", "renew-sign-in", "Give the command line's sign-in another value; its own is good until that is used, and five minutes more", policy.ChangeSelf), func(ctx context.Context, who service.Actor, _ *none) (wire.SignedIn, error) {
		return a.svc.SignIns.Renew(ctx, who)
	})
	done(a, op("PUT", "/me/password", "change-password", "Set another password, and end all other sign-ins", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PasswordChange }) error {
			return a.svc.SignIns.ChangePassword(ctx, who, in.Body, from(ctx))
		})
	answer(a, op("GET", "/me/profile", "show-profile", "Show what of your own comes into each of your workspaces", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.Profile, error) {
			return a.svc.Profiles.Show(ctx, who)
		})
	answer(a, op("GET", "/me/usual", "show-usual", "Show what you usually want: in git, of terminals, of launches", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.Usual, error) {
			return a.svc.Profiles.Usual(ctx, who)
		})
	answer(a, op("PUT", "/me/usual", "put-usual", "Set what you usually want", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PutUsual }) (wire.Usual, error) {
			return a.svc.Profiles.PutUsual(ctx, who, in.Body)
		})
	answer(a, op("GET", "/me/luggage", "show-luggage", "Show what of your home folder goes along from workspace to workspace", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.Luggage, error) {
			return a.svc.Profiles.Luggage(ctx, who)
		})
	answer(a, op("PUT", "/me/luggage", "put-luggage", "Say what of your home folder is to go along", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PutLuggage }) (wire.Luggage, error) {
			return a.svc.Profiles.PutLuggage(ctx, who, in.Body)
		})
	answer(a, op("GET", "/me/git-key", "show-git-key", "Show the key that you sign in to git hosts with by SSH, and sign commits with", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.GitKey, error) {
			return a.svc.GitKeys.Show(ctx, who)
		})
	answer(a, op("PUT", "/me/git-key", "put-git-key", "Make yourself such a key, bring one, or say what it is for", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PutGitKey }) (wire.GitKey, error) {
			return a.svc.GitKeys.Put(ctx, who, in.Body)
		})
	done(a, op("DELETE", "/me/git-key", "drop-git-key", "Forget it", policy.ChangeSelf), func(ctx context.Context, who service.Actor, _ *none) error { return a.svc.GitKeys.Drop(ctx, who) })
	answer(a, op("PUT", "/me/profile", "put-profile", "Set what of your own comes into each of your workspaces", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.PutProfile }) (wire.Profile, error) {
			return a.svc.Profiles.Put(ctx, who, in.Body)
		})
	answer(a, op("GET", "/me", "me", "Who you are", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.Me, error) {
			return a.svc.SignIns.Me(ctx, who)
		})
}

// logRoute gives a launch sheet's log as text, as it grows where asked.
func logRoute(a *API) {
	o := op("GET", "/workspaces/{workspace}/log", "read-log", "Read a launch sheet's log as text, secrets masked", policy.SeeWorkspace)
	o.Responses = map[string]*huma.Response{"200": {Description: "The log", Content: map[string]*huma.MediaType{"text/plain": {}}}}
	huma.Register(a.huma, o, func(ctx context.Context, in *struct {
		Workspace
		Sheet  int   `query:"sheet" minimum:"0" doc:"The number of the launch sheet; 0 is the newest"`
		Step   int   `query:"step" minimum:"0" doc:"The number of one step; 0 is all of them"`
		From   int64 `query:"from" minimum:"0" doc:"How many bytes to leave out: those that one has"`
		Follow bool  `query:"follow" doc:"Go on until the sheet has ended"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		if _, err := a.svc.Workspaces.Show(ctx, who, in.Ref); err != nil {
			return nil, err
		}
		return a.text(func(ctx context.Context, w io.Writer, flush func()) error {
			return a.svc.Workspaces.CopyLog(ctx, who, in.Ref, in.Sheet, in.Step, in.From, in.Follow, w, flush)
		}), nil
	})
}

// serviceLogRoute gives the newest lines of a service's log as text.
func serviceLogRoute(a *API) {
	o := op("GET", "/workspaces/{workspace}/services/{service}/log", "read-service-log", "Read the newest lines that a service printed", policy.SeeWorkspace)
	o.Responses = map[string]*huma.Response{"200": {Description: "The log", Content: map[string]*huma.MediaType{"text/plain": {}}}}
	huma.Register(a.huma, o, func(ctx context.Context, in *struct {
		Workspace
		Service string `path:"service" maxLength:"128"`
	}) (*huma.StreamResponse, error) {
		log, err := a.svc.Sessions.ServiceLog(ctx, actor(ctx), in.Ref, in.Service)
		if err != nil {
			return nil, err
		}
		return a.text(func(_ context.Context, w io.Writer, _ func()) error {
			_, err := w.Write(log)
			return err
		}), nil
	})
}

// text streams a log. What breaks it off is told in it, for people to read.
func (a *API) text(do func(ctx context.Context, w io.Writer, flush func()) error) *huma.StreamResponse {
	return a.stream("text/plain; charset=utf-8", do, func(w io.Writer, err error) {
		_, _ = w.Write([]byte("\n[the log ends here: " + err.Error() + "]\n")) // whoever asked may be gone
	})
}

// data streams what programs read. What breaks it off breaks the connection: a
// cut answer must not look like a whole one.
func (a *API) data(contentType string, do func(ctx context.Context, w io.Writer, flush func()) error) *huma.StreamResponse {
	return a.stream(contentType, do, func(_ io.Writer, err error) {
		slog.Error("an answer was broken off", "error", err)
		panic(http.ErrAbortHandler)
	})
}

func (a *API) stream(contentType string, do func(ctx context.Context, w io.Writer, flush func()) error, broken func(w io.Writer, err error)) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(c huma.Context) {
		c.SetHeader("Content-Type", contentType)
		w := c.BodyWriter()
		flush := func() {
			if f, ok := w.(http.Flusher); ok {
				f.Flush()
			}
		}
		ctx, cancel := a.until(c.Context())
		defer cancel()
		ctx, release := a.svc.Leases.HoldSelf(ctx, actor(c.Context())) // a log that is followed may go on for long
		defer release()
		err := do(ctx, w, flush)
		if cause := context.Cause(ctx); errors.Is(cause, service.ErrLeaseEnded) {
			err = cause
		}
		if err != nil {
			broken(w, err)
		}
	}}
}

// until ends with the request and with the service.
func (a *API) until(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(a.base, cancel)
	return ctx, func() { stop(); cancel() }
}

// eventRoute is the event stream. A journal entry carries its number as the
// event's id, and a watcher that comes back with Last-Event-ID misses none; a
// change without an entry (a log grew, a step began) is told as it happens. After
// entries of a workspace comes how it stands in a list, once for a burst of them.
func eventRoute(a *API) {
	o := op("GET", "/events", "watch-events", "Watch what changes, by server-sent events", policy.SeeSelf)
	o.Description = "journal: an entry, its number is the event's id. row: how a workspace stands in the list of workspaces, after entries of it. gone: that it stands in it no more. change: something of a workspace changed without an entry; look again. pulse: nothing, every 20 seconds."
	sse.Register(a.huma, o, map[string]any{
		"journal": wire.JournalEntry{}, "row": wire.WorkspaceRow{}, "gone": wire.Gone{}, "change": wire.Change{}, "pulse": wire.Pulse{},
	}, func(ctx context.Context, in *struct {
		After string `header:"Last-Event-ID" doc:"The id of the last event that came"`
		Since int64  `query:"after" minimum:"0" doc:"What a list gave as as_of: the events after it"`
	}, send sse.Sender) {
		if in.After == "" && in.Since > 0 {
			in.After = strconv.FormatInt(in.Since, 10)
		}
		ctx, cancel := a.until(ctx)
		defer cancel()
		ctx, release := a.svc.Leases.HoldSelf(ctx, actor(ctx))
		defer release()
		a.watch(ctx, actor(ctx), in.After, send)
	})
}

// mostMissed bounds the workspaces whose rows are told to somebody who was away:
// who missed more reads the list.
const mostMissed = 1000

func (a *API) watch(ctx context.Context, who service.Actor, after string, send sse.Sender) {
	w, err := a.svc.Feed.Watch(ctx, who)
	if err != nil {
		return
	}
	defer w.Close()
	cursor, err := strconv.ParseInt(strings.TrimSpace(after), 10, 64)
	if err != nil {
		cursor = w.Head
	}
	if send.Data(wire.Pulse{Journal: cursor}) != nil {
		return
	}
	var missed []string   // workspaces that the entries tell of
	for cursor < w.Head { // what came since they were here last
		entries, err := a.svc.Journal.Journal(ctx, who, service.JournalQuery{After: cursor, Limit: 200})
		if err != nil {
			return
		}
		for _, e := range entries {
			if cursor = e.Number; cursor > w.Head {
				break // that comes by itself
			}
			if send(sse.Message{ID: int(e.Number), Data: e}) != nil {
				return
			}
			if service.OfWorkspace(e.Kind) && !slices.Contains(missed, e.Subject) && len(missed) < mostMissed {
				missed = append(missed, e.Subject)
			}
		}
		if len(entries) < 200 {
			break
		}
	}
	if rows, err := a.svc.Feed.Rows(ctx, who, missed); err == nil {
		for _, id := range missed {
			var news any = wire.Gone{Workspace: id}
			if row, there := rows[id]; there {
				news = row
			}
			if send.Data(news) != nil {
				return
			}
		}
	}
	cursor = max(cursor, w.Head)
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
			if send.Data(wire.Pulse{Journal: cursor}) != nil {
				return
			}
		case n, ok := <-w.C:
			if !ok {
				return // they connect anew, with the number of what they have
			}
			var err error
			switch {
			case n.Entry != nil:
				cursor = n.Entry.Number
				err = send(sse.Message{ID: int(n.Entry.Number), Data: *n.Entry})
			case n.Row != nil:
				err = send.Data(*n.Row)
			case n.Gone != "":
				err = send.Data(wire.Gone{Workspace: n.Gone})
			default:
				err = send.Data(wire.Change{Workspace: n.Change})
			}
			if err != nil {
				return
			}
		}
	}
}
