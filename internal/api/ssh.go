package api

import (
	"context"
	"net"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// sshRoutes are where people come in by SSH, and what lets them in.
func sshRoutes(a *API) {
	s := a.svc
	answer(a, op("GET", "/ssh", "show-ssh", "Show where the door of SSH is, and by which key it is known", policy.SeeSelf),
		func(ctx context.Context, _ service.Actor, _ *struct{}) (wire.SSHDoor, error) { return s.Keys.Door(ctx) })
	list(a, op("GET", "/ssh/keys", "list-keys", "List the public keys that let you in by SSH", policy.SeeSelf), keyKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.SSHKey, error) {
			return s.Keys.Keys(ctx, who)
		})
	answer(a, op("GET", "/ssh/keys/{id}", "show-key", "Show one of your public keys", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *IDPath) (wire.SSHKey, error) {
			all, err := s.Keys.Keys(ctx, who)
			return service.One(all, err, func(v wire.SSHKey) bool { return v.ID == in.ID }, "key", in.ID)
		})
	made(a, op("POST", "/ssh/keys", "add-key", "Let yourself in by a public key", policy.ChangeSelf),
		func(v wire.SSHKey) string { return "/ssh/keys/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewSSHKey }) (wire.SSHKey, error) {
			return s.Keys.Add(ctx, who, in.Body)
		})
	done(a, op("DELETE", "/ssh/keys/{id}", "remove-key", "Let yourself in by a key no more; what is open by it ends", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *IDPath) error { return s.Keys.Remove(ctx, who, in.ID) })
	answer(a, op("PUT", "/ssh/certificate", "make-certificate", "Have a public key signed, to come in by SSH for 12 hours at most", policy.UseWorkspace),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewSSHCertificate }) (wire.SSHCertificate, error) {
			return s.Keys.Certify(ctx, who, in.Body)
		})

	o := op("GET", "/workspaces/{workspace}/ssh", "open-ssh", "Speak SSH with a workspace, over WebSocket", policy.UseWorkspace)
	o.Description = "Upgrades to WebSocket. Binary messages carry the bytes of one connection that speaks SSH, both ways: where the door of SSH cannot be reached. Who comes is asked for a key or a certificate there as at that door."
	o.Parameters = []*huma.Param{{Name: "workspace", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}}}
	o.Responses = map[string]*huma.Response{"101": {Description: "Upgraded"}, "401": {Description: "Not signed in"}}
	a.huma.OpenAPI().AddOperation(&o)
	a.engine.GET("/api/v1/workspaces/:workspace/ssh", func(c *gin.Context) {
		_, ws := a.upgrade(c, policy.UseWorkspace)
		if ws == nil {
			return
		}
		defer ws.Close()
		ctx, cancel := a.until(c.Request.Context())
		defer cancel()
		near, far := net.Pipe()
		go a.Shells(far, c.ClientIP(), c.Param("workspace"))
		tunnel(ctx, ws, near)
	})
}
