package probe

// protocols are what is offered by ALPN for each scheme (RFC 7301, and the
// registry of IANA); for others nothing is. Mail transfer has no registered
// value, so it is asked without one first.
var protocols = map[string][]string{
	"https": {"h2", "http/1.1"},
	"imap":  {"imap"}, "imaps": {"imap"}, "pop3": {"pop3"}, "pop3s": {"pop3"}, "sieve": {"managesieve"},
	"ftp": {"ftp"}, "ftps": {"ftp"}, "xmpp": {"xmpp-client"}, "xmpps": {"xmpp-client"},
	"xmpp-server": {"xmpp-server"}, "postgres": {"postgresql"}, "nntp": {"nntp"}, "nntps": {"nntp"},
}

// unregistered are values that some servers want all the same.
var unregistered = map[string][]string{"smtp": {"smtp"}, "submission": {"smtp"}, "submissions": {"smtp"},
	"smtps": {"smtp"}}

// usualProtocols are those for the call.
func (c Call) usualProtocols() []string {
	if c.Web {
		return protocols["https"]
	}
	return protocols[c.Scheme]
}

// otherProtocols are what may be offered instead where the application
// protocol is refused, in the order in which it is tried: nothing, what some
// servers want, and each of the usual ones alone.
func (c Call) otherProtocols() [][]string {
	var out [][]string
	usual := c.usualProtocols()
	if len(usual) > 0 {
		out = append(out, nil)
	}
	if others := unregistered[c.Scheme]; len(others) > 0 {
		out = append(out, others)
	}
	if len(usual) > 1 {
		for _, p := range usual {
			out = append(out, []string{p})
		}
	}
	return out
}
