package api

import (
	"crypto/rand"
	"log/slog"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// requestHeader is what a request is known by: in the log, in problems, to whoever asked.
const requestHeader = "X-Request-Id"

var requestID = regexp.MustCompile(`^[A-Za-z0-9._-]{8,64}$`)

// personKey is where a request keeps who asks.
const personKey = "person"

// mostTold is how many requests the log is told of in a second, beside those at the level of
// debugging.
const mostTold = 50

// room counts them.
var room bounded

type bounded struct {
	mu     sync.Mutex
	second int64
	n      int
}

func (b *bounded) take(now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := now.Unix(); s != b.second {
		b.second, b.n = s, 0
	}
	b.n++
	return b.n <= mostTold
}

// told gives each request an id, its asker's where they sent one, and tells the log of what was
// refused for who asks, and of what failed; of all else at the level of debugging. What was
// asked with, after a question mark, is not told: it may hold what is nobody's to read.
func told(c *gin.Context) {
	id := c.GetHeader(requestHeader)
	if !requestID.MatchString(id) {
		id = strings.ToLower(rand.Text()[:16])
	}
	c.Header(requestHeader, id)
	began := time.Now()
	c.Next()
	status, level, what := c.Writer.Status(), slog.LevelDebug, "a request was answered"
	switch {
	case status == http.StatusServiceUnavailable || status == http.StatusInsufficientStorage || status == http.StatusBadGateway || status == http.StatusGatewayTimeout:
		level, what = slog.LevelWarn, "a request could not be done now"
	case status >= 500:
		level, what = slog.LevelError, "a request failed"
	case status == http.StatusForbidden || status == http.StatusTooManyRequests:
		level, what = slog.LevelInfo, "a request was refused"
	}
	// Whoever is not signed in is told of by failed sign-ins alone; and nobody fills the log.
	if level > slog.LevelDebug && !room.take(time.Now()) {
		return
	}
	ctx := c.Request.Context()
	if !slog.Default().Enabled(ctx, level) {
		return
	}
	slog.Log(ctx, level, what, "status", status, "method", c.Request.Method, "path", c.Request.URL.Path, "person", c.GetString(personKey), "from", c.ClientIP(), "request", id, "took", time.Since(began).Round(time.Millisecond).String())
}
