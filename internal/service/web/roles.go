package web

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nurvik/internal/api"
	"nurvik/internal/service/auth"
)

// anyone is the role of operations that need no sign-in: they are how one signs in.
const anyone auth.Role = "anyone"

// whoever is the role of operations for every caller that is known, whatever a token is for.
const whoever auth.Role = "any role"

// Roles is what each operation needs. The guard, the document and the tests are made from it; an operation that is not
// listed is refused to everybody.
var Roles = map[string]auth.Role{
	"sign-in":    anyone,
	"set-up":     anyone,
	"get-set-up": anyone,

	"sign-in-passkey": anyone, // after the password

	"list-passkeys":  auth.Viewer, // one's own
	"begin-passkey":  auth.Viewer,
	"add-passkey":    auth.Viewer,
	"remove-passkey": auth.Viewer,

	"begin-openid":  anyone,
	"finish-openid": anyone,

	"get-session":     whoever,
	"sign-out":        auth.Viewer,
	"sign-out-all":    auth.Viewer,
	"change-password": auth.Viewer,
	"list-tokens":     auth.Viewer, // one's own; administrators see all
	"add-token":       auth.Viewer, // of one's own role at most
	"remove-token":    auth.Viewer,

	"list-audits":           auth.Viewer,
	"get-audit":             auth.Viewer,
	"follow-audit":          auth.Viewer,
	"list-codes":            auth.Viewer,
	"get-coverage":          auth.Viewer,
	"list-endpoints":        auth.Viewer,
	"get-endpoint":          auth.Viewer,
	"get-endpoint-coverage": auth.Viewer,
	"export-estate":         auth.Viewer,
	"list-expiry":           auth.Viewer,
	"get-calendar":          auth.Viewer,
	"get-forecast":          auth.Viewer,
	"get-timeline":          auth.Viewer,
	"list-findings":         auth.Viewer,
	"list-causes":           auth.Viewer,
	"get-history":           auth.Viewer,
	"get-difference":        auth.Viewer,
	"list-waivers":          auth.Viewer,
	"list-proposals":        auth.Viewer,
	"list-searches":         auth.Viewer,
	"get-search":            auth.Viewer,
	"answer-proposals":      auth.Auditor,
	"start-search":          auth.Auditor,
	"cancel-search":         auth.Auditor,
	"list-schedules":        auth.Viewer,
	"list-workers":          auth.Viewer,
	"change-endpoints":      auth.Auditor,
	"get-holding":           auth.Viewer,
	"list-holding-files":    auth.Viewer,
	"list-policies":         auth.Viewer,
	"get-policy":            auth.Viewer,
	"list-what-ifs":         auth.Viewer,
	"get-what-if":           auth.Viewer,
	"where":                 auth.Viewer,

	// What "nurvik collect" needs on a machine. Deliveries of an estate are for administrators alone.
	"list-holdings":        auth.Collect,
	"list-holding-digests": auth.Collect,
	"begin-delivery":       auth.Collect,
	"get-delivery":         auth.Collect,
	"send-part":            auth.Collect,
	"finish-delivery":      auth.Collect,
	"remove-delivery":      auth.Collect,

	// What "nurvikd work --through" needs.
	"begin-remote-work": auth.Worker,
	"take-tasks":        auth.Worker,
	"put-task-result":   auth.Worker,
	"end-remote-work":   auth.Worker,

	"start-audit":              auth.Auditor,
	"cancel-audit":             auth.Auditor,
	"add-endpoint":             auth.Auditor,
	"change-endpoint":          auth.Auditor,
	"remove-endpoint":          auth.Auditor,
	"forget-unfinished-logins": auth.Auditor,
	"change-holding":           auth.Auditor,
	"remove-holding":           auth.Auditor,
	"acknowledge-finding":      auth.Auditor,
	"forget-acknowledgement":   auth.Auditor,
	"add-waiver":               auth.Auditor,
	"remove-waiver":            auth.Auditor,
	"start-what-if":            auth.Auditor,
	"add-schedule":             auth.Auditor,
	"change-schedule":          auth.Auditor,
	"remove-schedule":          auth.Auditor,
	"remove-what-if":           auth.Auditor,

	"save-policy":   auth.Administrator,
	"remove-policy": auth.Administrator,
	"list-people":   auth.Administrator,
	"add-person":    auth.Administrator,
	"change-person": auth.Administrator,
	"remove-person": auth.Administrator,
	"list-activity": auth.Administrator,
}

// readers are operations of machines' tokens that viewers may use as well.
var readers = map[string]bool{"list-holdings": true, "list-holding-digests": true, "get-delivery": true}

// allows reports whether the role may use the operation.
func allows(role auth.Role, operation string) bool {
	need, ok := Roles[operation]
	switch {
	case !ok:
		return false
	case need == anyone:
		return true
	case role == "":
		return false
	case need == whoever:
		return true
	}
	return role.Includes(need) || readers[operation] && role.Includes(auth.Viewer)
}

// permitted lets callers pass whose role the operation needs.
func (s *server) permitted(ctx huma.Context, next func(huma.Context)) {
	operation, who := ctx.Operation(), auth.From(ctx.Context())
	switch {
	case allows(who.Role, operation.OperationID):
		next(ctx)
	case !who.Known():
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="nurvik"`)
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, signInFirst)
	default:
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, "this needs the role "+
			string(Roles[operation.OperationID])+", and yours is "+string(who.Role)+"; ask an administrator")
	}
}

const signInFirst = "sign in first: in the console, or with a token (\"nurvik login\" stores one)"

// knownOnly keeps what is no operation, such as the document, from callers that nobody knows.
func knownOnly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/api/v1/") && !auth.From(r.Context()).Role.IsPersons() {
			problem(w, http.StatusUnauthorized, signInFirst)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// measured lets only those read metrics who may.
func measured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if who := auth.From(r.Context()); !who.Role.Includes(auth.Metrics) || who.Label != "" {
			problem(w, http.StatusUnauthorized, "metrics need a token of the role metrics, or an administrator")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// declared writes the role of an operation into the document.
func declared(o *huma.Operation) {
	role := Roles[o.OperationID]
	o.Extensions = map[string]any{"x-role": role}
	if role == anyone {
		o.Security = []map[string][]string{}
	}
	o.Errors = append(o.Errors, http.StatusUnauthorized)
	if role != anyone && role != whoever {
		o.Errors = append(o.Errors, http.StatusForbidden)
	}
}

// held says what keeps an operation to the endpoints with one label.
type held int

const (
	byNothing  held = iota + 1 // it is about no endpoint
	byItself                   // it looks at the caller's label
	byEndpoint                 // its {id} is an endpoint
	byAudit                    // its {id} is an audit
)

// scoped are the operations that a token for one label may use. All others are refused to it.
var scoped = map[string]held{
	"get-session": byNothing,
	"list-codes":  byNothing,

	"list-endpoints": byItself,
	"list-findings":  byItself,
	"list-causes":    byItself,
	"add-endpoint":   byItself,
	"start-audit":    byItself,

	"get-endpoint":             byEndpoint,
	"get-endpoint-coverage":    byEndpoint,
	"get-history":              byEndpoint,
	"get-difference":           byEndpoint,
	"change-endpoint":          byEndpoint, // and by itself: it keeps the label
	"remove-endpoint":          byEndpoint,
	"forget-unfinished-logins": byEndpoint,

	"get-audit":    byAudit,
	"follow-audit": byAudit,
	"cancel-audit": byAudit,
}

// within lets callers pass who are not for one label, or whose operation keeps to it.
func (s *server) within(ctx huma.Context, next func(huma.Context)) {
	of := auth.From(ctx.Context()).Label
	if of == "" || Roles[ctx.Operation().OperationID] == anyone {
		next(ctx)
		return
	}
	id, _ := strconv.ParseInt(ctx.Param("id"), 10, 64) // what is no number is refused with the other input
	inside, err := true, error(nil)
	switch scoped[ctx.Operation().OperationID] {
	case byNothing, byItself:
	case byEndpoint:
		inside, err = s.Store.EndpointsHave(ctx.Context(), of, []int64{id})
	case byAudit:
		inside, err = s.Store.AuditHas(ctx.Context(), of, id)
	default:
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, "this token is for endpoints with the label "+of+
			" alone, and this is about others too")
		return
	}
	switch {
	case err != nil:
		err = s.failure(err)
		status := http.StatusInternalServerError
		var told huma.StatusError
		if errors.As(err, &told) {
			status = told.GetStatus()
		}
		_ = huma.WriteErr(s.api, ctx, status, err.Error())
	case !inside:
		_ = huma.WriteErr(s.api, ctx, http.StatusNotFound, "there is no such record with the label "+of)
	default:
		next(ctx)
	}
}

// ofLabel is the label that a list is about: the one asked for, which must be that of the caller's token where that has
// one.
func ofLabel(ctx context.Context, asked string) (string, error) {
	own := auth.From(ctx).Label
	switch {
	case !IsLabel(asked):
		return "", invalid([]error{&huma.ErrorDetail{Message: "a label is KEY=VALUE", Location: "query.label"}})
	case own == "" || asked == own:
		return asked, nil
	case asked == "":
		return own, nil
	}
	return "", huma.Error403Forbidden("this token is for endpoints with the label " + own + " alone")
}

// keepsLabel refuses settings without the label that the caller's token is for.
func keepsLabel(ctx context.Context, settings api.EndpointSettings) error {
	own := auth.From(ctx).Label
	key, value, _ := strings.Cut(own, "=")
	if own == "" || settings.Labels[key] == value {
		return nil
	}
	return huma.Error403Forbidden("this token is for endpoints with the label " + own + " alone: give it that label")
}
