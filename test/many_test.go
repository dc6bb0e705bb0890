package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// patiently does what is refused for a while, as so many do it at once, until it is not.
func patiently(do func() error) (err error) {
	for range 40 {
		if err = do(); wire.ProblemOf(err) == nil || wire.ProblemOf(err).Status != 429 {
			return err
		}
		time.Sleep(3 * time.Second)
	}
	return err
}

// A workshop begins: more people than a link lets in come at once. As many as it says set
// up their accounts, and each of them has one workspace by it, however often they press.
func TestAHundredByOneLink(t *testing.T) {
	t.Parallel()
	workshop(t, simWorld(t), 100)
}

// Ten of them on an engine: the same, and what each has is a container of their own.
func TestTenByOneLinkOnAnEngine(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	workshop(t, w, 10)
	said := map[string]bool{}
	for i := range 12 {
		name := fmt.Sprintf("pupil%d", i)
		if r := w.command(name, demo.Password+"\n", "sign-in", w.address, "--as", name).run(); r.code == 0 {
			w.config[name] = filepath.Join(w.dir, "config-"+name)
			said[w.must(w.as(name, "", "run", "tide-board", "--", "sh", "-c", "test ! -e /tmp/mine && touch /tmp/mine && echo $YARDBENCH_OWNER"), 0, name)] = true
		}
	}
	if len(said) != 10 {
		t.Errorf("they say %v", said)
	}
}

// workshop has some more people come by one link than it lets in.
func workshop(t *testing.T, w *world, most int) {
	t.Helper()
	more := max(most/10, 2)
	w.rules("team: {running: 12, cores: 20, memory: 40 GiB}", "team: {running: 200, cores: 400, memory: 800 GiB}", "launches: 4", "launches: 50")
	runa := w.client("runa")
	link, err := runa.LaunchLinks.Make(t.Context(), wire.NewLaunchLink{Launch: wire.Launch{Repository: "tide-board", Size: "small"}, PeopleMost: most, Seconds: 3600, GuestS: 7200})
	if err != nil {
		t.Fatal(err)
	}
	host := strings.TrimPrefix(w.git, "http://")
	began := time.Now()
	var let, full, fresh atomic.Int32
	var all sync.WaitGroup
	for i := range most + more {
		all.Go(func() {
			name := fmt.Sprintf("pupil%d", i)
			err := patiently(func() error {
				_, err := runa.People.UseEnrolment(t.Context(), wire.EnrolmentUse{Key: "go-" + link.ID, Name: name, FullName: "A Pupil", Email: name + "@elsewhere.example", Password: demo.Password})
				return err
			})
			if p := wire.ProblemOf(err); p != nil && p.Status == 404 {
				full.Add(1)
				return
			}
			var in wire.SignedIn
			if err == nil {
				let.Add(1)
				err = patiently(func() (err error) {
					in, err = runa.Self.SignIn(t.Context(), name, demo.Password)
					return err
				})
			}
			var c *yb.Client
			if err == nil {
				c, err = yb.New(w.address, in.Token)
			}
			if err == nil {
				err = c.Self.PutGitCredential(t.Context(), host, wire.GitCredential{Username: "ingrid", Password: demo.GitToken("ingrid")})
			}
			if err != nil {
				t.Errorf("%s: %v", name, err)
				return
			}
			var both sync.WaitGroup
			for range 2 {
				both.Go(func() {
					got, err := c.LaunchLinks.Use(t.Context(), link.ID)
					if err != nil {
						t.Errorf("%s: %v", name, err)
					} else if got.Fresh {
						fresh.Add(1)
					}
				})
			}
			both.Wait()
		})
	}
	all.Wait()
	if int(let.Load()) != most || int(full.Load()) != more || int(fresh.Load()) != most {
		t.Errorf("%d were let in, %d not, %d workspaces were launched", let.Load(), full.Load(), fresh.Load())
	}
	t.Logf("all had theirs under way after %s", time.Since(began).Round(time.Second))
	astrid := w.client("astrid")
	for end := time.Now().Add(2 * time.Minute); ; time.Sleep(time.Second) {
		ws, err := astrid.Workspaces.List(t.Context(), yb.ListQuery{All: true})
		if err != nil {
			t.Fatal(err)
		}
		ready, owners := 0, map[string]bool{}
		for _, v := range ws {
			if strings.HasPrefix(v.Owner, "pupil") {
				owners[v.Owner] = true
				if v.Phase == "ready" {
					ready++
				}
			}
		}
		if ready == most && len(owners) == most {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d of %d people have one that is ready (%d)", len(owners), most, ready)
		}
	}
	t.Logf("all were ready after %s", time.Since(began).Round(time.Second))
	uses, err := runa.LaunchLinks.Uses(t.Context(), link.ID)
	if err != nil || len(uses) != most {
		t.Errorf("%d have used it, %v", len(uses), err)
	}
}

// A directory of ten thousand people is taken in, is asked for in parts, and one of them
// leaves within two seconds as of few.
func BenchmarkDirectoryOfTenThousand(b *testing.B) {
	w := simWorld(b)
	const many = 10_000
	d := w.directory(b)
	var ids [many]string
	each := func(do func(i int)) time.Duration {
		began := time.Now()
		var all sync.WaitGroup
		var next atomic.Int64
		for range 4 {
			all.Go(func() {
				for i := int(next.Add(1)) - 1; i < many; i = int(next.Add(1)) - 1 {
					do(i)
				}
			})
		}
		all.Wait()
		return time.Since(began)
	}
	user := func(i int, active bool) string {
		return fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"hand%d@skerryline.example","externalId":"h%d","displayName":"Hand %d","emails":[{"value":"hand%d@skerryline.example"}],"active":%t}`, i, i, i, i, active)
	}
	b.ReportMetric(many/each(func(i int) { ids[i] = d.ask("POST", "/Users", user(i, true), 201).ID }).Seconds(), "people-made/s")
	took := func(name string, most time.Duration, do func()) {
		began := time.Now()
		do()
		took := time.Since(began)
		b.ReportMetric(float64(took.Milliseconds()), name+"-ms")
		if took > most {
			b.Errorf("%s took %s, more than %s", name, took, most)
		}
	}
	took("found-by-name", time.Second, func() {
		if got := d.ask("GET", "/Users?filter=userName+eq+%22hand7777@skerryline.example%22", "", 200); got.TotalResults != 1 || got.Resources[0].ID != ids[7777] {
			b.Errorf("found %+v", got)
		}
	})
	took("listed-in-parts", 60*time.Second, func() {
		for at := 1; at <= many; at += 100 {
			if got := d.ask("GET", fmt.Sprintf("/Users?startIndex=%d&count=100", at), "", 200); got.TotalResults != many || len(got.Resources) == 0 {
				b.Fatalf("the part from %d has %d of %d", at, len(got.Resources), got.TotalResults)
			}
		}
	})
	var members []string
	for _, id := range ids[:5000] {
		members = append(members, `{"value":"`+id+`"}`)
	}
	took("group-of-5000", 30*time.Second, func() {
		d.ask("POST", "/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"Pilots","members":[`+strings.Join(members, ",")+`]}`, 201)
	})
	took("one-leaves", 2*time.Second, func() { d.ask("PUT", "/Users/"+ids[42], user(42, false), 200) })
	took("people-listed", 5*time.Second, func() { w.must(w.as("astrid", "", "person", "list", "--json"), 0, "hand9999") })
	b.ReportMetric(many/each(func(i int) { d.ask("DELETE", "/Users/"+ids[i], "", 204) }).Seconds(), "people-gone/s")
}
