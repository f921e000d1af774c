package harbour

import (
	"net/http"
	"strings"
	"time"

	"nurvik/core/forge"
)

// renewal is what a berth's next renewal will meet, beside its own name.
type renewal struct {
	names     map[string]string // further names of the certificate, and where they lead; "" for the berth itself
	aliases   map[string]string // CNAME records
	texts     map[string]string // TXT records
	issuers   map[string]string // who alone may issue for a name
	challenge http.Handler      // answers below the path for HTTP validation; nil for not found
}

// answerToken has the form of an answer to a challenge: a digest in base64url.
var answerToken = strings.Repeat("Nurvik_", 6) + "x"

// renewalBerths are sound, and some of them will not be renewed.
func renewalBerths() []berth {
	of := func(host, about, address string, plain bool, r renewal) berth {
		return berth{host: host, about: about, addresses: []string{address}, plain: plain, redirects: plain,
			renewal: &r,
			leaf: func(w *forge.Template, _ time.Time) {
				for name := range r.names {
					w.Names = append(w.Names, name+"."+domain)
				}
			}}
	}
	return []berth{
		of("shipwright", "will be renewed: the path answers, and one name is validated in DNS", "127.30.13.1", true,
			renewal{names: map[string]string{"www.shipwright": "", "*.docks.shipwright": ""},
				aliases: map[string]string{"_acme-challenge.www.shipwright": "www-shipwright.validation." + domain}}),
		of("keelson", "a name has moved away, and an old answer is in DNS", "127.30.13.2", true,
			renewal{names: map[string]string{"old.keelson": "127.30.13.1"},
				texts: map[string]string{"_acme-challenge.keelson": answerToken}}),
		of("oarlock", "nothing on the plain port, and a delegation to a domain that is gone", "127.30.13.3", false,
			renewal{names: map[string]string{"*.blades.oarlock": "", "log.oarlock": ""},
				aliases: map[string]string{"_acme-challenge.oarlock": "oarlock.sunken.example",
					"_acme-challenge.log.oarlock": "_acme-challenge.log.oarlock." + domain}}),
		of("gangplank", "the path leads to another host, and another issuer has one of the names", "127.30.13.4", true,
			renewal{names: map[string]string{"crew.gangplank": ""},
				issuers:   map[string]string{"crew.gangplank": "inner." + domain},
				challenge: http.RedirectHandler("http://validation."+domain+"/", http.StatusFound)}),
		of("bollard-gate", "the path is forbidden", "127.30.13.5", true, renewal{
			challenge: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				http.Error(w, "no hidden files", http.StatusForbidden)
			})}),
	}
}

// challengePath is where HTTP validation asks.
const challengePath = "/.well-known/acme-challenge/"

// atPlain answers on the plain port, where challenges are answered before the redirection.
func (r *renewal) atPlain(usual http.Handler) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("/", usual)
	mux.Handle(challengePath, http.NotFoundHandler())
	if r.challenge != nil {
		mux.Handle(challengePath+"{token}", r.challenge)
	}
	return mux
}
