package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"yardbench/client"
	"yardbench/wire"
)

// Furnish prepares images of the planned repositories and brings up four
// workspaces and takes a container on, through the HTTP door as their owners
// would. What is there already stays as it is, but that a stopped one of the four is started.
func Furnish(ctx context.Context, address, gitHost, issuer string, say func(string)) error {
	for lead, repository := range map[string]string{"runa": "tide-board", "bjarne": "fare-desk"} {
		c, err := signedIn(ctx, address, lead)
		if err != nil {
			return err
		}
		plans, err := c.Prebuilds.Plans(ctx, repository)
		if err != nil {
			return err
		}
		if len(plans) > 0 && serves(plans[0]) {
			continue
		}
		say("a prepared image of " + repository)
		if len(plans) == 0 {
			if _, err := c.Prebuilds.PutPlan(ctx, repository, wire.PutPlan{OnPush: true, Timetable: "30 5 * * 1-5"}); err != nil {
				return err
			}
		}
		if _, err := c.Prebuilds.RunPlan(ctx, repository, ""); err != nil && !there(err) {
			return fmt.Errorf("prepare %s: %w", repository, err)
		}
		err = c.Watch(ctx, func() (bool, error) {
			plans, err := c.Prebuilds.Plans(ctx, repository)
			return err != nil || plans[0].Runs[0].EndedAt != nil, err
		})
		if err != nil {
			return err
		}
	}
	if err := furnishSecrets(ctx, address); err != nil {
		return err
	}
	if err := furnishGuest(ctx, address); err != nil {
		return err
	}
	if err := furnishGit(ctx, address, gitHost); err != nil {
		return err
	}
	if err := furnishGitHost(ctx, address, gitHost); err != nil {
		return err
	}
	if err := furnishHook(ctx, address, gitHost); err != nil {
		return err
	}
	if err := furnishProvider(ctx, address, issuer); err != nil {
		return err
	}
	if err := furnishWorkspaces(ctx, address, say); err != nil {
		return err
	}
	if err := furnishBroken(ctx, address, say); err != nil {
		return err
	}
	if err := furnishAdopted(ctx, address, say); err != nil {
		return err
	}
	if err := furnishLinks(ctx, address); err != nil {
		return err
	}
	return furnishProgram(ctx, address)
}

// furnishProvider has people sign in by the identity provider.
func furnishProvider(ctx context.Context, address, issuer string) error {
	if issuer == "" {
		return nil
	}
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	client := ClientOf(address)
	_, err = c.Providers.Put(ctx, ProviderName, wire.PutProvider{Title: "Skerry Line", Issuer: issuer, Client: client.ID, Secret: client.Secret})
	return err
}

// furnishLinks makes two launch links: one for whoever signs in, one for a team.
func furnishLinks(ctx context.Context, address string) error {
	for who, in := range map[string]wire.NewLaunchLink{
		"runa":   {Title: "Try the tide board", Launch: wire.Launch{Repository: "tide-board", Size: "small"}},
		"bjarne": {Title: "Fares, for a week", Launch: wire.Launch{Repository: "fare-desk"}, Team: "Fares", PeopleMost: 12, Seconds: 7 * 24 * 3600},
	} {
		c, err := signedIn(ctx, address, who)
		if err != nil {
			return err
		}
		if all, err := c.LaunchLinks.List(ctx); err != nil || len(all) > 0 {
			if err != nil {
				return err
			}
			continue
		}
		if _, err := c.LaunchLinks.Make(ctx, in); err != nil {
			return err
		}
	}
	return nil
}

// furnishProgram makes an account for a program, with a token of few rights, and
// puts a notice before those of one team.
func furnishProgram(ctx context.Context, address string) error {
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	_, err = c.People.AddProgram(ctx, wire.NewProgram{Name: "nightwatch", Purpose: "Reviews of pull requests", Team: "Harbour"})
	if there(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := c.People.MakeProgramToken(ctx, "nightwatch", wire.NewToken{Name: "reviews", Days: 90, Scopes: []string{"launch", "work"}, Repositories: []string{"tide-board"}}); err != nil {
		return err
	}
	_, err = c.Operations.Ask(ctx, wire.NewOperation{Verb: "tell", Where: &wire.WorkspaceWhere{All: true, Team: "Decks"}, Reason: "The winter tables come on Monday: push what you want to keep."})
	return err
}

// furnishBroken has two people launch from a branch whose set-up fails.
func furnishBroken(ctx context.Context, address string, say func(string)) error {
	for _, who := range []string{"jonas", "oddvar"} {
		c, err := signedIn(ctx, address, who)
		if err != nil {
			return err
		}
		if _, err := c.Workspaces.Show(ctx, "north-chart"); err == nil {
			continue
		}
		say("a workspace of " + broken + "@" + brokenBranch + " for " + who + ", whose set-up fails")
		if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: broken, Branch: brokenBranch, Name: "north-chart"}); err != nil {
			say(err.Error()) // a limit, say
			continue
		}
		err = c.Watch(ctx, func() (bool, error) {
			w, err := c.Workspaces.Show(ctx, "north-chart")
			return err != nil || w.Phase == "ready" || w.Phase == "failed", err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// furnishSecrets gives the house, a team and a repository secrets.
func furnishSecrets(ctx context.Context, address string) error {
	for _, s := range []struct {
		who, name string
		of        client.SecretsOf
		value     wire.SecretValue
	}{
		{"astrid", "NOTICE_TOKEN", client.SecretsOf{House: true}, wire.SecretValue{Value: "pins-to-the-board-in-the-hall", Everywhere: true}},
		{"solveig", "CHART_KEY", client.SecretsOf{Team: "Harbour"}, wire.SecretValue{Value: "opens-the-charts-of-the-sound", Repositories: []string{"berth-planner", "deck-log"}}},
		{"bjarne", "FARE_SIGNER", client.SecretsOf{Repository: "fare-desk"}, wire.SecretValue{Value: "signs-what-a-crossing-costs", Form: "file", Branches: &[]string{"main", "release/*"}}},
	} {
		c, err := signedIn(ctx, address, s.who)
		if err != nil {
			return err
		}
		if all, err := c.Secrets.List(ctx, s.of); err != nil || slices.ContainsFunc(all, func(v wire.Secret) bool { return v.Name == s.name }) {
			if err != nil {
				return err
			}
			continue
		}
		if _, err := c.Secrets.Put(ctx, s.of, s.name, s.value); err != nil {
			return fmt.Errorf("secret %s: %w", s.name, err)
		}
	}
	return nil
}

// furnishGuest brings in somebody whose access ends by itself.
func furnishGuest(ctx context.Context, address string) error {
	c, err := signedIn(ctx, address, "solveig")
	if err != nil {
		return err
	}
	if all, err := c.Guests.List(ctx); err != nil || len(all) > 0 {
		return err
	}
	e, err := c.Guests.Invite(ctx, wire.NewGuest{Team: "Harbour", Until: time.Now().Add(14 * 24 * time.Hour), Repositories: []string{"berth-planner"}, Sizes: []string{"small"}})
	if err != nil {
		return fmt.Errorf("invite a guest: %w", err)
	}
	_, key, _ := strings.Cut(e.Link, "#")
	_, err = c.People.UseEnrolment(ctx, wire.EnrolmentUse{Key: key, Name: "tormod", FullName: "Tormod Vik", Email: "tormod@skerryline.example", Password: Password})
	return err
}

// furnishHook has the stand-in told of what happens to workspaces.
func furnishHook(ctx context.Context, address, gitHost string) error {
	u, err := url.Parse(gitHost)
	if err != nil || u.Port() == "" {
		return err // there is no stand-in to tell
	}
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	all, err := c.Webhooks.List(ctx)
	if err != nil || len(all) > 0 {
		return err
	}
	_, err = c.Webhooks.Add(ctx, wire.NewWebhook{URL: "http://127.0.0.1:" + u.Port() + HookPath, Kinds: []string{"workspace.phase", "prebuild.", "rules."}})
	return err
}

func serves(p wire.PrebuildPlan) bool {
	for _, r := range p.Runs {
		if r.Serves {
			return true
		}
	}
	return false
}

func furnishWorkspaces(ctx context.Context, address string, say func(string)) error {
	for n, repository := range []string{"tide-board", "fare-desk", "deck-log", "gull-count"} {
		c, err := signedIn(ctx, address, furnished[n])
		if err != nil {
			return err
		}
		w, err := c.Workspaces.Show(ctx, repository)
		switch {
		case err == nil && w.Phase != "stopped":
			continue
		case err == nil:
			say("starting " + repository + " of " + furnished[n])
			if _, err := c.Workspaces.Start(ctx, repository); err != nil {
				say(err.Error()) // a limit that was used up meanwhile, say
				continue
			}
		default:
			say("a workspace of " + repository + " for " + furnished[n])
			if repository == "tide-board" {
				if _, err := c.Secrets.Put(ctx, client.SecretsOf{}, "TIDE_API_KEY", wire.SecretValue{Value: "measured-levels-of-ytre-skjer", Repositories: []string{"tide-board"}}); err != nil {
					return err
				}
			}
			if _, err := c.Workspaces.Launch(ctx, wire.Launch{Repository: repository}); err != nil {
				return fmt.Errorf("launch %s: %w", repository, err)
			}
		}
		err = c.Watch(ctx, func() (bool, error) {
			w, err := c.Workspaces.Show(ctx, repository)
			if err == nil && w.Phase == "failed" {
				err = errors.New(w.Cause)
			}
			return err != nil || w.Phase == "ready", err
		})
		if err != nil {
			return fmt.Errorf("bring up %s: %w", repository, err)
		}
		if health, err := c.Health(ctx); err != nil || health.Simulated {
			continue // nothing listens in a simulated workspace
		}
		if repository == "tide-board" {
			if err := serveBoard(ctx, c); err != nil {
				return fmt.Errorf("serve the board: %w", err)
			}
		}
	}
	return nil
}

// serveBoard starts the board in a terminal, where it goes on, and shares its
// port.
func serveBoard(ctx context.Context, c *client.Client) error {
	s, err := c.Workspaces.Open(ctx, "tide-board", wire.Run{Terminal: "board", Columns: 100, Rows: 30})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.Send('i', []byte("make serve\n")); err != nil {
		return err
	}
	var out strings.Builder
	for end := time.Now().Add(time.Minute); !strings.Contains(out.String(), "the board is on port") && time.Now().Before(end); {
		_, p, err := s.Receive()
		if err != nil {
			return err
		}
		out.Write(p)
	}
	_, err = c.Ports.Share(ctx, "tide-board", 8000, wire.PortChange{Visitors: "everybody"})
	return err
}

func signedIn(ctx context.Context, address, name string) (*client.Client, error) {
	c, err := client.New(address, "")
	if err != nil {
		return nil, err
	}
	in, err := c.Self.SignIn(ctx, name, Password)
	if err != nil {
		return nil, fmt.Errorf("sign in as %s: %w", name, err)
	}
	return client.New(address, in.Token)
}

// furnishGit has the git host known by its key for SSH, and somebody with a key there.
func furnishGit(ctx context.Context, address, gitHost string) error {
	u, err := url.Parse(gitHost)
	if err != nil || u.Port() == "" {
		return err // there is no stand-in
	}
	door, err := atTheHost(ctx, http.MethodGet, u.Port(), "/host-key", "")
	if err != nil {
		return err
	}
	port, key, _ := strings.Cut(strings.TrimSpace(door), " ")
	host := u.Hostname() + ":" + port
	operator, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	rules, err := operator.Rules.Show(ctx, 0)
	if err != nil {
		return err
	}
	if !strings.Contains(rules.Document, "\ngit:") {
		text := rules.Document + "\ngit:\n  host_keys:\n    \"" + host + "\": [\"" + key + "\"]\n"
		if _, err := operator.Rules.Put(ctx, wire.RulesText{Document: text, Reason: "The git host is reached by SSH, too"}, rules.Version); err != nil {
			return err
		}
	}
	c, err := signedIn(ctx, address, "ingrid")
	if err != nil {
		return err
	}
	if _, err := c.Self.GitKey(ctx); err == nil {
		return nil
	}
	k, err := c.Self.PutGitKey(ctx, wire.PutGitKey{New: true})
	if err == nil {
		_, err = atTheHost(ctx, http.MethodPut, u.Port(), "/keys", k.Public)
	}
	return err
}

// atTheHost asks the git host on this machine, as Ingrid.
func atTheHost(ctx context.Context, method, port, path, body string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://127.0.0.1:"+port+path, strings.NewReader(body))
	if err != nil {
		return "", err
	}
	req.SetBasicAuth("ingrid", GitToken("ingrid"))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err == nil && res.StatusCode >= 300 {
		err = fmt.Errorf("the git host answers %s: %s", res.Status, text)
	}
	return string(text), err
}

// furnishGitHost has people connect with the git host, in place of giving it tokens.
func furnishGitHost(ctx context.Context, address, gitHost string) error {
	u, err := url.Parse(gitHost)
	if err != nil || u.Port() == "" {
		return err // there is no stand-in
	}
	c, err := signedIn(ctx, address, People[0].Name)
	if err != nil {
		return err
	}
	_, err = c.GitHosts.Put(ctx, u.Host, wire.PutGitHost{Title: "Skerry Line git", Authorize: gitHost + "/oauth/authorize", Token: gitHost + "/oauth/token", Device: gitHost + "/oauth/device", Revoke: gitHost + "/oauth/revoke",
		Repositories: gitHost + "/api/repositories", Client: GitClient, Secret: GitClientSecret, Scopes: []string{"repositories"}})
	return err
}
