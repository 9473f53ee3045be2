package contract

// All stands for all of a ground where a site or a host can be named to be retired.
const All = "*"

// What a CertificateView is of.
const (
	CertificateSort = "certificate"
	AuthoritySort   = "authority"
)
