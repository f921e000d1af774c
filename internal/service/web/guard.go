package web

import (
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"nurvik/internal/api"
	"nurvik/internal/service/secrets"
)

// guard refuses what an honest caller does not send: another service's Host, a
// foreign Origin, writes that are not JSON, and anything that holds a private key.
type guard struct {
	hosts []string // host names and addresses of the service, without ports
}

// allow reports whether the host, with or without a port, is the service's own.
func (g guard) allow(hostport string) bool {
	host := hostport
	if h, _, err := net.SplitHostPort(hostport); err == nil {
		host = h
	}
	return slices.Contains(g.hosts, strings.ToLower(strings.Trim(host, "[]")))
}

func (g guard) middleware(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if status, reason := g.refuse(r); status != 0 {
			problem(w, status, reason)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// refuse returns the status and reason to refuse the request with, or 0.
func (g guard) refuse(r *http.Request) (int, string) {
	if !g.allow(r.Host) {
		return http.StatusMisdirectedRequest,
			"this service is not reached under that host name; add it with --public-host if it should be"
	}
	if origin := r.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		if err != nil || !g.allow(u.Host) || u.Host != r.Host {
			return http.StatusForbidden, "requests from pages of another origin are refused"
		}
	}
	if secrets.InText(r.URL.Path) || secrets.InText(r.URL.RawQuery) || unescapedSecret(r.URL.RawQuery) {
		return http.StatusBadRequest, secretReason
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return 0, ""
	}
	if kind := mediaType(r.Header.Get("Content-Type")); kind != "application/json" && kind != api.PartMedia {
		return http.StatusUnsupportedMediaType, "writes are JSON: send Content-Type: application/json"
	}
	return 0, ""
}

func mediaType(header string) string {
	kind, _, err := mime.ParseMediaType(header)
	if err != nil {
		return ""
	}
	return kind
}

const secretReason = "the request contains a private key; nothing of it was kept. Private keys stay where they " +
	"are: send certificates only"

func unescapedSecret(query string) bool {
	text, err := url.QueryUnescape(query)
	return err == nil && secrets.InText(text)
}
