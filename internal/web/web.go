// Package web is the small HTTP address of a schedule that is served: whether it is well, metrics in the OpenMetrics
// text format, and a call to run a job now. Whoever calls needs a token, of which only a hash is known here.
package web

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/time/rate"
)

// Answer says what became of a call.
type Answer int

// The answers.
const (
	Taken   Answer = iota // it will be done
	Busy                  // it is being done already
	Unknown               // there is no such job
)

// Desk is what the address is about. Its functions may be called side by side.
type Desk struct {
	Token   func() string // its SHA-256 in hexadecimal; empty: nobody may call
	Call    func(job string) Answer
	Healthy func() (well bool, say any)
	Metrics prometheus.Collector
	Refused func(from string) // told of each call with a wrong token; may be nil
}

// Calls are limited: a token cannot be guessed, and a loop that calls does no harm.
const (
	callsEvery = time.Second
	callsBurst = 10
	maxBody    = 1 << 10 // bytes
)

// Server gives the server of a desk, ready to listen.
func (d Desk) Server() *http.Server {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /health", d.health)
	registry := prometheus.NewRegistry()
	registry.MustRegister(d.Metrics)
	mux.Handle("GET /metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true,
		MaxRequestsInFlight: 2,
		Timeout:             30 * time.Second}))
	limit := rate.NewLimiter(rate.Every(callsEvery), callsBurst)
	mux.HandleFunc("POST /run/{job}", func(w http.ResponseWriter, r *http.Request) { d.run(w, r, limit) })
	return &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: time.Minute,
		IdleTimeout:  time.Minute, MaxHeaderBytes: 16 << 10}
}

func answer(w http.ResponseWriter, code int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	_ = json.NewEncoder(w).Encode(v) // whoever asked has gone
}

func (d Desk) health(w http.ResponseWriter, _ *http.Request) {
	well, say := d.Healthy()
	code := http.StatusOK
	if !well {
		code = http.StatusServiceUnavailable
	}
	answer(w, code, say)
}

func (d Desk) run(w http.ResponseWriter, r *http.Request, limit *rate.Limiter) {
	no := func(code int, reason string) { answer(w, code, map[string]string{"reason": reason}) }
	if !limit.Allow() {
		w.Header().Set("Retry-After", "5")
		no(http.StatusTooManyRequests, "too many calls")
		return
	}
	if r.URL.RawQuery != "" || r.ContentLength > maxBody {
		no(http.StatusBadRequest,
			"a call has no query, and at most a short body; the token belongs in the header Authorization")
		return
	}
	token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !ok || !d.knows(token) {
		if d.Refused != nil {
			d.Refused(r.RemoteAddr)
		}
		w.Header().Set("WWW-Authenticate", "Bearer")
		no(http.StatusUnauthorized, "the token is missing or wrong")
		return
	}
	job := r.PathValue("job")
	switch d.Call(job) {
	case Taken:
		answer(w, http.StatusAccepted, map[string]string{"job": job, "state": "taken"})
	case Busy:
		no(http.StatusConflict, "the job is being run, or waits for its turn")
	default:
		no(http.StatusNotFound, "there is no such job")
	}
}

// knows compares a token in a time that says nothing of it.
func (d Desk) knows(token string) bool {
	want, err := hex.DecodeString(d.Token())
	if err != nil || len(want) != sha256.Size {
		return false
	}
	got := sha256.Sum256([]byte(token))
	return subtle.ConstantTimeCompare(got[:], want) == 1
}
