package facts

import "nurvik/core/pki"

// File is what one file, or one entry of an archive, holds. It has the public
// side of everything and no private part of any key.
type File struct {
	Schema  string   `json:"schema"`
	Path    string   `json:"path" doc:"Of an entry in an archive: the archive's path, and the path inside behind it"`
	Archive string   `json:"archive,omitempty" doc:"Path of the archive on disk"`
	Access  *Access  `json:"access,omitempty" doc:"Who can read it; of files on disk"`
	Items   []Item   `json:"items"`
	Defects []Defect `json:"defects,omitempty"`

	Configuration *Configuration `json:"configuration,omitempty" doc:"Of a holding: the server whose configuration begins with this file"`

	RevocationAsked bool         `json:"revocation_asked,omitempty" doc:"Issuers were asked about revocation"`
	Revocation      []Revocation `json:"revocation,omitempty"`
	Fetched         []Fetched    `json:"fetched,omitempty" doc:"Issuers' certificates that were fetched because they lack"`
}

// ItemKind says what a piece of material is.
type ItemKind string

// The kinds of material.
const (
	Certificate    ItemKind = "certificate"
	Request        ItemKind = "request"
	PrivateKey     ItemKind = "private-key"
	PublicKey      ItemKind = "public-key"
	RevocationList ItemKind = "revocation-list"
	Parameters     ItemKind = "parameters" // of a curve or of a key exchange
	SecretKey      ItemKind = "secret-key" // symmetric, in a keystore; only that it is there
	Keystore       ItemKind = "keystore"   // one that stayed closed, or of which something has to be told
)

// Item is one piece of material and its place.
type Item struct {
	Kind ItemKind `json:"kind" enum:"certificate,request,private-key,public-key,revocation-list,parameters,secret-key,keystore"`
	DER  []byte   `json:"der,omitempty" doc:"Of public material"`
	Key  *Key     `json:"key,omitempty" doc:"Of private keys"`
	Place

	Container string  `json:"container,omitempty" doc:"PKCS#12, JKS, JCEKS or PKCS#7 when it lies in one"`
	Alias     string  `json:"alias,omitempty" doc:"Its name in a keystore"`
	Link      string  `json:"link,omitempty" doc:"The same for a key and the certificates that its keystore puts beside it"`
	Trusted   bool    `json:"trusted,omitempty" doc:"The keystore marks it as an anchor"`
	Unchecked bool    `json:"unchecked,omitempty" doc:"The integrity of the keystore was not checked"`
	Locked    string  `json:"locked,omitempty" enum:",no-password,wrong-password,unsupported,too-costly,damaged" doc:"Why a keystore stayed closed"`
	Detail    *Reason `json:"detail,omitempty" doc:"More of it"`

	learnt *pki.Brief
}

// Learn keeps what was learnt when the item was decoded. It is no part of the
// facts: whoever has it need not decode the item again.
func (i *Item) Learn(b *pki.Brief) { i.learnt = b }

// Learnt is what was learnt when the item was decoded, nil where nothing was kept.
func (i *Item) Learnt() *pki.Brief { return i.learnt }

// Place is where in a file something lies.
type Place struct {
	Line     int    `json:"line,omitempty" doc:"From 1; 0 in a binary file"`
	Offset   int    `json:"offset" doc:"Bytes from the start of the file"`
	Form     string `json:"form,omitempty" doc:"How it is written: PEM, DER, base64, or a keystore"`
	PEMLabel string `json:"pem_label,omitempty" doc:"The label of a PEM block"`
	Field    string `json:"field,omitempty" doc:"The value of a document in which it lies, such as data.tls-crt"`
}

// Reasons why something protected stayed closed.
const (
	NoPassword    = "no-password"
	WrongPassword = "wrong-password"
	Unsupported   = "unsupported"
	TooCostly     = "too-costly"
	DamagedInside = "damaged"
)

// Key is what may be told of a private key.
type Key struct {
	SPKI       []byte   `json:"spki,omitempty" doc:"The public half; absent while the key is locked, or where it cannot be computed here"`
	Type       string   `json:"type,omitempty" doc:"Such as EC P-256"`
	Structure  string   `json:"structure" doc:"PKCS#8, PKCS#1, SEC1 or DSA"`
	Encrypted  bool     `json:"encrypted,omitempty"`
	Protection string   `json:"protection,omitempty" doc:"The scheme by which it is encrypted"`
	Locked     string   `json:"locked,omitempty" enum:",no-password,wrong-password,unsupported,too-costly,damaged" doc:"Why it could not be opened"`
	Problems   []Reason `json:"problems,omitempty" doc:"What does not agree inside"`
}

// Grammar says what RFC 7468, section 3, allows.
type Grammar string

// The grammars, from the strictest.
const (
	Standard Grammar = "standard"
	Lax      Grammar = "lax"
	Outside  Grammar = "outside"
)

// DefectKind tells the defects of files apart.
type DefectKind string

// The defects. Those of the form are read past; behind the others something is missing.
const (
	ByteOrderMark     DefectKind = "byte-order-mark"
	LineEnds          DefectKind = "line-ends"    // Windows or old Mac
	TextBetween       DefectKind = "text"         // between or around blocks
	UTF16             DefectKind = "utf-16"       //
	RunTogether       DefectKind = "run-together" // no line end between two blocks
	WhiteSpace        DefectKind = "white-space"
	LineLength        DefectKind = "line-length"
	WrongLabel        DefectKind = "wrong-label" // misspelt, or not fitting what the block holds
	TypographicDashes DefectKind = "typographic-dashes"
	Entities          DefectKind = "entities"  // of HTML
	MailText          DefectKind = "mail-text" // quoted, quoted-printable or escaped, as mail programs do
	DoubleBase64      DefectKind = "double-base64"
	Repeated          DefectKind = "repeated"           // the same thing twice
	KeyAmong          DefectKind = "key-among"          // a private key in a file that is meant for certificates
	Damaged           DefectKind = "damaged"            // truncated or undecodable
	TooLarge          DefectKind = "too-large"          // a reading limit was passed
	ReadingFailed     DefectKind = "examination-failed" // by a defect of Nurvik itself
)

// Defect is something wrong with the form of a file.
type Defect struct {
	Kind    DefectKind `json:"kind"`
	Line    int        `json:"line,omitempty"`
	Offset  int        `json:"offset" doc:"Bytes from the start of the file"`
	Reason  Reason     `json:"reason" doc:"What is wrong"`
	Grammar Grammar    `json:"grammar,omitempty" enum:",standard,lax,outside" doc:"What RFC 7468 section 3 says of it"`
}

// Access is who can read a file, and the way to it.
type Access struct {
	Mode        uint32   `json:"mode" doc:"Permission bits"`
	Owner       string   `json:"owner" doc:"Name, or number where there is none"`
	Group       string   `json:"group"`
	Root        bool     `json:"root,omitempty" doc:"The owner is root"`
	Device      uint64   `json:"device,omitempty"`
	Inode       uint64   `json:"inode,omitempty"`
	Links       []string `json:"links,omitempty" doc:"The symbolic links that were followed, and where they led"`
	Barred      string   `json:"barred,omitempty" doc:"The directory above that others may not enter; empty when none bars the way"`
	BarredGroup string   `json:"barred_group,omitempty" doc:"The same for the file's group"`
	Listed      bool     `json:"listed,omitempty" doc:"Others can read the directory that it lies in"`
}

// Certificates are the items that are certificates, in their order.
func (f File) Certificates() []Item {
	var out []Item
	for _, item := range f.Items {
		if item.Kind == Certificate {
			out = append(out, item)
		}
	}
	return out
}
