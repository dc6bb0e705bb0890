package api

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"yardbench/internal/core/policy"
	"yardbench/internal/scim"
	"yardbench/wire"
)

// directoryRoutes are the door of a house's directory (SCIM 2.0), which describes
// itself: /scim/v2/ServiceProviderConfig, ResourceTypes and Schemas. It is asked with a
// token alone: no page of another site can have a browser speak here.
func directoryRoutes(a *API) {
	handler, err := scim.Handler(a.svc.Directory, a.Address)
	if err != nil {
		slog.Error("the directory has no door", "error", err)
		return
	}
	a.engine.Any(scim.Path+"/*rest", func(c *gin.Context) {
		r := c.Request
		if r.Header.Get("Authorization") == "" {
			refuse(c.Writer, newProblem(http.StatusUnauthorized, "a token of an account of programs is wanted").(*wire.Problem))
			return
		}
		who, err := a.svc.SignIns.Authenticate(r.Context(), a.token(r))
		if err == nil {
			err = who.Refusal(policy.SyncDirectory)
		}
		if err == nil {
			err = a.svc.SignIns.Proved(r.Context(), who, policy.SyncDirectory)
		}
		if err != nil {
			refuse(c.Writer, asProblem(err))
			return
		}
		end, err := a.svc.Pace.Begin(who.ID, r.Method != http.MethodGet && r.Method != http.MethodHead)
		if err != nil {
			refuse(c.Writer, asProblem(err))
			return
		}
		defer end()
		handler.ServeHTTP(c.Writer, r.WithContext(scim.With(r.Context(), who)))
	})
}

// refuse answers in the form of RFC 7644, 3.12.
func refuse(w http.ResponseWriter, p *wire.Problem) {
	for k, v := range p.GetHeaders() {
		w.Header()[k] = v
	}
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "status": strconv.Itoa(p.Status), "detail": p.Error()}) // whoever asked may be gone
}
