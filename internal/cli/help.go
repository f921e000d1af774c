package cli

// Words of options that several commands have.
const (
	atHelp       = "judge as of this `TIME`: a date, RFC 3339, or an offset such as +30d"
	distrustHelp = "treat the certificate or key of this SHA-256 `FINGERPRINT` as untrusted; repeat for more"
	failFromHelp = "exit 1 at this `SEVERITY` or worse"
)
