package api

import (
	"encoding/json"
	"net/http"

	"yardbench/internal/service"
)

// Live answers whoever asks whether the process answers at all.
func Live(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("alive\n")) }

// Ready answers whoever asks whether all is well: 200 with the health, 503 where
// something troubles it that people feel.
func Ready(h *service.Health) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		now := h.Health()
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Cache-Control", "no-store")
		if now.Status == "troubled" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		_ = json.NewEncoder(w).Encode(now) // whoever asked is gone
	}
}
