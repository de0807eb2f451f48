// Package httpd holds the doors of the service: the distribution protocol, the
// management API, the console, and the health of the whole. It translates between
// requests and the rooms below; what it decides itself is only how to say things.
package httpd

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"net/netip"
	"net/url"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"warthesis/internal/access"
	"warthesis/internal/access/company"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/flow"
	"warthesis/internal/flow/follow"
	"warthesis/internal/flow/replicate"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/console"
	"warthesis/internal/httpd/management"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/httpd/protocol"
	"warthesis/internal/record"
	"warthesis/internal/registry"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

// Options are what the doors need to know.
type Options struct {
	Registry *registry.Registry
	Records  *record.Store
	Access   *access.Access
	Work     *work.Works
	Sweeper  *sweep.Sweeper
	Peers    *flow.Peers
	Follower *follow.Follower
	// Replicator copies to peers and from them.
	Replicator *replicate.Replicator
	// Company is the company's login, nil where there is none.
	Company     *company.Company
	CompanyName string
	// Outside are the addresses under which the service is reached.
	Outside []*url.URL
	// Trusted are the proxies whose forwarded headers count.
	Trusted []netip.Prefix
	// Trial, where set, is who everybody is.
	Trial *access.Caller
	// Authority is the certificate of the private authority, nil where there is none.
	Authority     []byte
	Version       string
	BodyIdle      time.Duration
	ManifestBytes int64
	// Prices are what things cost.
	Prices desk.Prices
	// RuleWait is how long a list of rules waits that could take more than before.
	RuleWait time.Duration
	// Stopping is closed when the service stops: new work is refused from then
	// on, and open streams end.
	Stopping <-chan struct{}
}

// New returns the handler of all doors.
func New(o Options) (http.Handler, error) {
	gin.SetMode(gin.ReleaseMode)
	router := gin.New()
	// Who is asking is read from headers only behind a proxy that was named as trusted.
	trusted := make([]string, len(o.Trusted))
	for i, prefix := range o.Trusted {
		trusted[i] = prefix.String()
	}
	if err := router.SetTrustedProxies(trusted); err != nil {
		return nil, err
	}
	router.RedirectTrailingSlash = false
	who := callers.New(callers.Options{Access: o.Access, Outside: o.Outside, Trusted: o.Trusted, Trial: o.Trial, RequestID: requestID})
	router.Use(identify(), logged(), recovered(), management.OnlyHere(who), management.Who(who))
	registerHealth(router, o)
	if o.Authority != nil {
		router.GET(AuthorityPath, func(c *gin.Context) { c.Data(http.StatusOK, "application/x-pem-file", o.Authority) })
	}
	router.GET("/metrics", management.Observers(who), gin.WrapH(metrics(o.Records, o.Replicator, o.Follower)))
	protocol.Register(router, protocol.Options{
		Registry: o.Registry, BodyIdle: o.BodyIdle, ManifestBytes: o.ManifestBytes, Access: o.Access, Callers: who, Budget: o.Work.Budget(), Follower: o.Follower,
	})
	management.Register(router, &desk.Desk{
		Registry: o.Registry, Records: o.Records, Access: o.Access, Work: o.Work, Callers: who, Sweeper: o.Sweeper, Peers: o.Peers, Follower: o.Follower, Replicator: o.Replicator, Upkeep: &upkeep.Upkeep{Access: o.Access, Records: o.Records, Clock: o.Records.Clock(), Grace: o.Registry.Grace(), RuleWait: o.RuleWait}, Company: o.Company, CompanyName: o.CompanyName, Version: o.Version, Stopping: o.Stopping, Trial: o.Trial != nil, Prices: o.Prices,
	})
	page, err := console.New()
	if err != nil {
		return nil, fmt.Errorf("prepare the console: %w", err)
	}
	router.NoRoute(page.Serve)
	return withSigns(withDeadlines(router, o.BodyIdle, o.ManifestBytes), o.Work.Budget()), nil
}

// AuthorityPath is where the certificate of a private authority is served.
const AuthorityPath = "/authority.pem"

// requestHeader carries the request's ID, in the answer and through the doors. It
// is in canonical form, so that it can be set without being made so.
const requestHeader = "X-Request-Id"

// identify gives each request an ID, which stands in the log, the answer's header
// and every message about a failure.
func identify() gin.HandlerFunc {
	var start [5]byte
	rand.Read(start[:])
	prefix := hex.EncodeToString(start[:]) + "-"
	var count atomic.Uint64
	return func(c *gin.Context) {
		id := prefix + strconv.FormatUint(count.Add(1), 10)
		c.Writer.Header()[requestHeader] = []string{id}
	}
}

func requestID(c *gin.Context) string { return c.Writer.Header().Get(requestHeader) }

// logged writes one line for each request that changes something or fails. Reads,
// and refusals that anybody can get by asking, are not logged one by one unless the
// level asks for them: the audit log counts them.
func logged() gin.HandlerFunc {
	return func(c *gin.Context) {
		began := time.Now()
		c.Next()
		path := c.Request.URL.Path
		if !strings.HasPrefix(path, "/v2") && !strings.HasPrefix(path, "/api/") {
			return
		}
		level := levelOf(c)
		if !slog.Default().Enabled(c.Request.Context(), level) {
			return
		}
		slog.LogAttrs(c.Request.Context(), level, "request",
			slog.String("request", requestID(c)), slog.String("method", c.Request.Method), slog.String("path", path),
			slog.Int("status", c.Writer.Status()), slog.Int64("bytes", max(c.GetInt64(protocol.SentKey), int64(c.Writer.Size()))),
			slog.Duration("took", time.Since(began)), slog.String("from", c.ClientIP()))
	}
}

func levelOf(c *gin.Context) slog.Level {
	reads := c.Request.Method == http.MethodGet || c.Request.Method == http.MethodHead
	status := c.Writer.Status()
	switch {
	case errors.Is(c.Request.Context().Err(), context.Canceled):
		// Who asked has gone: that is no fault of anybody's here.
		return slog.LevelDebug
	case status >= http.StatusInternalServerError:
		return slog.LevelError
	case reads && (status < http.StatusBadRequest || status == http.StatusNotFound):
		return slog.LevelDebug
	case status == http.StatusUnauthorized, status == http.StatusTooManyRequests, status >= http.StatusBadRequest && !callers.Came(c):
		return slog.LevelDebug
	}
	return slog.LevelInfo
}

// recovered answers a panic of one request; the service goes on. An answer that is
// cut must look so: the connection ends without its end.
func recovered() gin.HandlerFunc {
	return func(c *gin.Context) {
		defer func() {
			reason := recover()
			if reason == nil {
				return
			}
			if reason != http.ErrAbortHandler {
				slog.Error("a request panicked", "request", requestID(c), "path", c.Request.URL.Path, "reason", reason, "stack", string(debug.Stack()))
				if !c.Writer.Written() {
					c.AbortWithStatus(http.StatusInternalServerError)
					return
				}
			}
			panic(http.ErrAbortHandler)
		}()
		c.Next()
	}
}

// metrics serves what the process tells of itself, in the form of OpenMetrics.
func metrics(records *record.Store, more ...prometheus.Collector) http.Handler {
	of := prometheus.NewRegistry()
	of.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	of.MustRegister(append(records.Metrics(), more...)...)
	of.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "warthesis_hurt_files", Help: "Files of content that were found to be missing, of another size, with other bytes or unreadable.",
	}, func() float64 {
		hurt, err := records.View(context.Background()).Hurts().Count()
		if err != nil {
			return math.NaN()
		}
		return float64(hurt)
	}))
	of.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{
		Name: "warthesis_records_damages", Help: "Damages of the records that are known. While there are any, no sweep and no retention deletes anything.",
	}, func() float64 { return float64(len(records.Damages())) }))
	return promhttp.HandlerFor(of, promhttp.HandlerOpts{})
}

// registerHealth answers whether the process lives and whether it can serve.
func registerHealth(router gin.IRouter, o Options) {
	router.GET("/healthz/live", func(c *gin.Context) { c.String(http.StatusOK, "live\n") })
	router.GET("/healthz/ready", func(c *gin.Context) {
		select {
		case <-o.Stopping:
			c.String(http.StatusServiceUnavailable, "stopping\n")
			return
		default:
		}
		if err := o.Records.Ready(c.Request.Context()); err != nil {
			slog.Error("the records do not answer", "error", err)
			c.String(http.StatusServiceUnavailable, "the records do not answer\n")
			return
		}
		if all := o.Records.Damages(); len(all) > 0 {
			c.String(http.StatusOK, "ready, and the records are damaged: nothing is deleted\n")
			return
		}
		// It can serve all the same: a probe that took it out would hurt all that is well.
		if hurt, err := o.Records.View(c.Request.Context()).Hurts().Count(); err == nil && hurt > 0 {
			c.String(http.StatusOK, "ready, and some content is hurt\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
}
