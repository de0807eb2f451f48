package api

import (
	"time"

	"warthesis/internal/oci"
)

// PeerStep is what one step of a peer's test found.
type PeerStep struct {
	Step string `json:"step"`
	Well bool   `json:"well"`
	Says string `json:"says" doc:"What was found, or what is wrong and what to do"`
}

// PeerCan is what a peer was found to be able to.
type PeerCan struct {
	Catalogue   bool  `json:"catalogue" doc:"It lists its repositories"`
	Referrers   bool  `json:"referrers" doc:"It answers which manifests refer to one"`
	Digests     bool  `json:"digests" doc:"It is one of ours: it answers one question for many tags, and moves tags under conditions"`
	DeletesTags *bool `json:"deletes_tags,omitempty" doc:"It removes tags alone; absent where no push was tried"`
	Chunks      *bool `json:"chunks,omitempty" doc:"It takes blobs in pieces; absent where no push was tried"`
}

// Peer is another registry that this one talks to. Its secrets are shown to nobody.
type Peer struct {
	Name              string     `json:"name"`
	Address           string     `json:"address" doc:"Host, with a port where it has one"`
	Prefix            oci.Name   `json:"prefix,omitempty" doc:"What stands before the names of the repositories that are meant"`
	Description       string     `json:"description,omitempty"`
	Account           string     `json:"account,omitempty" doc:"The name of its login; absent for none"`
	Authority         string     `json:"authority,omitempty" doc:"Whom the authority is of by which its certificate is checked besides the system's"`
	Fingerprint       string     `json:"fingerprint,omitempty" doc:"SHA-256 of the one certificate that is believed"`
	ClientCertificate string     `json:"client_certificate,omitempty" doc:"Whom the certificate is of that it is shown"`
	Unencrypted       bool       `json:"unencrypted,omitempty" doc:"Plain HTTP is spoken to it"`
	Can               PeerCan    `json:"can"`
	Steps             []PeerStep `json:"steps" nullable:"false" doc:"What the last test found"`
	Failed            string     `json:"failed,omitempty" doc:"The step at which the last test stopped; absent where it passed"`
	TestedAt          *time.Time `json:"tested_at,omitempty"`
	MadeAt            *time.Time `json:"made_at,omitempty" doc:"Absent of one that was tested and not kept"`
	MadeBy            string     `json:"made_by,omitempty"`
	ChangedAt         *time.Time `json:"changed_at,omitempty"`
	ChangedBy         string     `json:"changed_by,omitempty"`
	TagAccounts       []string   `json:"tag_accounts,omitempty" doc:"Accounts that may change tags there, beside registry admins; shown to registry roles"`
	UsedBy            []string   `json:"used_by" nullable:"false" doc:"What uses it"`
}

// PeerList is all peers.
type PeerList struct {
	Peers []Peer `json:"peers" nullable:"false"`
}

// GivenPeer is what somebody says of a peer; what is absent stays as it is.
type GivenPeer struct {
	Address           *string `json:"address,omitempty" maxLength:"300"`
	Prefix            *string `json:"prefix,omitempty" maxLength:"255"`
	Description       *string `json:"description,omitempty" maxLength:"500"`
	Account           *string `json:"account,omitempty" maxLength:"500"`
	Secret            *string `json:"secret,omitempty" maxLength:"16384" doc:"Password or token of the account; empty for none"`
	Authority         *string `json:"authority,omitempty" maxLength:"262144" doc:"Certificates in PEM form by which its own is checked besides the system's; empty for none"`
	Fingerprint       *string `json:"fingerprint,omitempty" maxLength:"200" doc:"SHA-256 of the one certificate that is believed; empty for none"`
	ClientCertificate *string `json:"client_certificate,omitempty" maxLength:"262144" doc:"Certificate in PEM form that it is shown where it asks for one; empty for none"`
	ClientKey         *string `json:"client_key,omitempty" maxLength:"262144" doc:"Its key in PEM form; empty for none"`
	Unencrypted       *bool   `json:"unencrypted,omitempty" doc:"Speak plain HTTP to it: whoever is on the way can read and change what passes"`
	// TagAccounts is a pointer, so that none differs from absent.
	TagAccounts *[]string `json:"tag_accounts,omitempty" maxItems:"100" doc:"Accounts that may change tags there, beside registry admins; empty for none"`
}

// TryPeer says how far a test of a peer goes.
type TryPeer struct {
	Repository string `json:"repository,omitempty" maxLength:"255" doc:"A repository below the prefix that is looked at; absent for the first that it lists"`
	Push       bool   `json:"push,omitempty" doc:"Also try a push, which leaves nothing behind"`
}

// MakePeer makes a peer.
type MakePeer struct {
	Name string `json:"name" maxLength:"64"`
	GivenPeer
	TryPeer
	Failing bool `json:"failing,omitempty" doc:"Keep it though its test fails"`
	Try     bool `json:"try,omitempty" doc:"Only test it, and keep nothing"`
}

// ChangePeer changes a peer.
type ChangePeer struct {
	GivenPeer
	TryPeer
	Failing bool `json:"failing,omitempty" doc:"Change it though its test fails"`
}

// PeerTested is a peer after its test.
type PeerTested struct {
	Peer
	Kept bool `json:"kept" doc:"What was said of it is kept; false where its test failed, or was all that was asked for"`
}

// PeerNames is a page of names at a peer.
type PeerNames struct {
	Names []string `json:"names" nullable:"false"`
	Next  string   `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// PeerTag is what happens to a tag at a peer: without a digest or another tag it is removed.
type PeerTag struct {
	Tag    oci.Tag    `json:"tag" doc:"The tag that is added, renamed or removed"`
	To     string     `json:"to,omitempty" maxLength:"256" doc:"A tag or a digest that it is to point to"`
	Rename oci.Tag    `json:"rename,omitempty" doc:"Its new name"`
	Is     oci.Digest `json:"is,omitempty" doc:"What it has to point to now; absent for whatever it does"`
}

// FollowSource is a peer that a namespace follows.
type FollowSource struct {
	Peer     string   `json:"peer" maxLength:"64"`
	Prefix   oci.Name `json:"prefix,omitempty" doc:"Stands behind the peer's own prefix, before the names"`
	Patterns []string `json:"patterns,omitempty" maxItems:"100" doc:"Patterns of what is fetched, by the names here; absent for all"`
}

// Follow is what a namespace follows.
type Follow struct {
	Namespace string         `json:"namespace"`
	Sources   []FollowSource `json:"sources" nullable:"false" doc:"In the order in which they are asked"`
	FreshFor  string         `json:"fresh_for" doc:"For how long a tag is served without asking"`
	Complete  bool           `json:"complete" doc:"What nobody asked for is fetched afterwards"`
	Anonymous bool           `json:"anonymous" doc:"Those without a login start fetches by a login of this registry"`
	SetAt     *time.Time     `json:"set_at,omitempty"`
	SetBy     string         `json:"set_by,omitempty"`
	Served    FollowServed   `json:"served"`
}

// FollowServed is what a followed namespace served in the last thirty days.
type FollowServed struct {
	Here       int64 `json:"here" doc:"Blobs that were served from here"`
	HereBytes  int64 `json:"here_bytes"`
	There      int64 `json:"there" doc:"Blobs that came from a peer while they were pulled"`
	ThereBytes int64 `json:"there_bytes"`
}

// FollowList is what all namespaces follow.
type FollowList struct {
	Follows []Follow `json:"follows" nullable:"false"`
}

// SetFollow lets a namespace follow peers.
type SetFollow struct {
	Sources   []FollowSource `json:"sources" minItems:"1" maxItems:"20"`
	FreshFor  string         `json:"fresh_for,omitempty" maxLength:"20" doc:"As in 5m; absent for that"`
	Complete  bool           `json:"complete,omitempty"`
	Anonymous bool           `json:"anonymous,omitempty"`
}
