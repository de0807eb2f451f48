// Package peers keeps what is known of other registries that this one talks to.
package peers

import (
	"errors"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// Most is how many peers there are.
const Most = 500

var (
	// ErrNone: there is no such peer.
	ErrNone = errors.New("no such peer")
	// ErrTaken: there is a peer of that name.
	ErrTaken = errors.New("there is a peer of that name")
	// ErrMost: there are Most peers.
	ErrMost = errors.New("too many peers")
	// ErrChanged: the peer was changed since it was read.
	ErrChanged = errors.New("the peer was changed meanwhile")
)

// Can is what a peer was found to be able to. What is not known is false.
type Can struct {
	// Catalogue: it lists its repositories. Referrers: it answers which manifests refer to
	// one. DeletesTags: a tag can be removed alone. Chunks: a blob can be sent in pieces.
	Catalogue   bool `json:"catalogue,omitempty"`
	Referrers   bool `json:"referrers,omitempty"`
	DeletesTags bool `json:"deletes_tags,omitempty"`
	Chunks      bool `json:"chunks,omitempty"`
	// Digests: it is one of ours, and answers one question for many tags, and moves tags
	// under conditions.
	Digests bool `json:"digests,omitempty"`
	// Pushed tells that what takes a push was looked at: DeletesTags and Chunks.
	Pushed bool `json:"pushed,omitempty"`
}

// Step is what one step of a test found.
type Step struct {
	Step string `json:"step"`
	Well bool   `json:"well"`
	Says string `json:"says"`
}

// Peer is another registry.
type Peer struct {
	ID   int64
	Name string
	// Address is its host, with a port where it has one. Prefix stands before the names of
	// its repositories that are meant, "" for all.
	Address     string
	Prefix      oci.Name
	Description string
	// Account is its login's name, "" for none. Secret and ClientKey are kept encrypted.
	Account string
	Secret  []byte
	// Authority are certificates as PEM by which its own is checked besides the system's;
	// Fingerprint is the SHA-256 of one certificate that alone is believed, in hex.
	Authority, Fingerprint string
	// ClientCertificate is shown to it where it asks for one, as PEM.
	ClientCertificate string
	ClientKey         []byte
	// Unencrypted tells that plain HTTP is spoken to it.
	Unencrypted bool
	// TagAccounts are accounts that may change tags there, beside registry admins.
	TagAccounts []int64 `gorm:"serializer:json"`
	// Version grows with each change of how it is reached.
	Version int64
	Can     Can    `gorm:"serializer:json"`
	Steps   []Step `gorm:"serializer:json"`
	// Failed is the step at which the last test stopped, "" where it passed.
	Failed    string
	TestedAt  stamp.Stamp
	MadeAt    stamp.Stamp
	MadeBy    int64
	ChangedAt stamp.Stamp
	ChangedBy int64
}

// Repository returns what a name below the prefix is called there.
func (p Peer) Repository(name oci.Name) oci.Name {
	if p.Prefix == "" {
		return name
	}
	return oci.Name(strings.TrimSuffix(string(p.Prefix), "/") + "/" + string(name))
}

// Peers are those of a registry, in a change or as of the last commit.
type Peers struct{ DB *gorm.DB }

// Get returns a peer by its name, or ErrNone.
func (p Peers) Get(name string) (Peer, error) { return p.one("name = ?", name) }

// ByID returns a peer by its number, or ErrNone.
func (p Peers) ByID(id int64) (Peer, error) { return p.one("id = ?", id) }

func (p Peers) one(where string, by any) (found Peer, err error) {
	rows := p.DB.Where(where, by).Limit(1).Find(&found)
	if rows.Error == nil && rows.RowsAffected == 0 {
		return found, ErrNone
	}
	return found, rows.Error
}

// All returns all peers, by name.
func (p Peers) All() (all []Peer, err error) {
	return all, p.DB.Order("name").Limit(Most).Find(&all).Error
}

// Make makes a peer. It fails with ErrTaken and ErrMost.
func (p Peers) Make(peer Peer) (Peer, error) {
	var count int64
	if err := p.DB.Model(&Peer{}).Count(&count).Error; err != nil {
		return peer, err
	}
	if count >= Most {
		return peer, ErrMost
	}
	switch _, err := p.Get(peer.Name); {
	case err == nil:
		return peer, ErrTaken
	case !errors.Is(err, ErrNone):
		return peer, err
	}
	peer.Version = 1
	if peer.TagAccounts == nil {
		peer.TagAccounts = []int64{}
	}
	return peer, p.DB.Create(&peer).Error
}

// Change writes what describes a peer and how it is reached. It fails with ErrChanged where
// it is not of the version that was read any more.
func (p Peers) Change(peer Peer) error {
	next := peer
	next.Version++
	if next.TagAccounts == nil {
		next.TagAccounts = []int64{}
	}
	done := p.DB.Model(&Peer{}).Where("id = ? AND version = ?", peer.ID, peer.Version).
		Select("Address", "Prefix", "Description", "Account", "Secret", "Authority", "Fingerprint", "ClientCertificate", "ClientKey", "Unencrypted", "TagAccounts", "Version",
			"Can", "Steps", "Failed", "TestedAt", "ChangedAt", "ChangedBy").
		Updates(&next)
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrChanged
	}
	return done.Error
}

// Tested writes what a test found of a peer as it was when it was tested; one that was
// changed meanwhile keeps what is known of it.
func (p Peers) Tested(peer Peer) error {
	return p.DB.Model(&Peer{}).Where("id = ? AND version = ?", peer.ID, peer.Version).Select("Can", "Steps", "Failed", "TestedAt").Updates(&peer).Error
}

// Remove removes a peer.
func (p Peers) Remove(id int64) error { return p.DB.Delete(&Peer{}, id).Error }

// Sent notes that a peer has sent all bytes of content: it had them.
func (p Peers) Sent(peer int64, digest oci.Digest) error {
	return p.DB.Exec("INSERT OR IGNORE INTO origins (content_id, peer_id) SELECT blobs.content_id, ? FROM contents JOIN blobs ON blobs.content_id = contents.id WHERE contents.digest = ?", peer, digest).Error
}

// HasSent reports whether a peer has sent all bytes of content that is here. That it says it
// has them is not enough: whoever knows a digest can say so.
func (p Peers) HasSent(peer int64, digest oci.Digest) (has bool, err error) {
	return has, p.DB.Raw("SELECT EXISTS (SELECT 1 FROM origins WHERE peer_id = ? AND content_id = (SELECT id FROM contents WHERE digest = ?))", peer, digest).Scan(&has).Error
}

// Upload is an upload to another registry that did not end.
type Upload struct {
	Registry string     `gorm:"primaryKey"`
	Name     oci.Name   `gorm:"primaryKey"`
	Digest   oci.Digest `gorm:"primaryKey"`
	// At is where it is gone on with.
	At     string
	KeptAt stamp.Stamp
}

// TableName names the table.
func (Upload) TableName() string { return "peer_uploads" }

// FindUpload returns where an upload is gone on with, "" for none.
func (p Peers) FindUpload(registry string, name oci.Name, digest oci.Digest) (at string, err error) {
	return at, p.DB.Model(&Upload{}).Select("at").Where("registry = ? AND name = ? AND digest = ?", registry, name, digest).Limit(1).Scan(&at).Error
}

// KeepUpload notes an upload, and forgets those from before a moment.
func (p Peers) KeepUpload(u Upload, before stamp.Stamp) error {
	return errors.Join(p.DB.Clauses(clause.OnConflict{UpdateAll: true}).Create(&u).Error, p.DB.Exec("DELETE FROM peer_uploads WHERE kept_at < ?", before).Error)
}

// DropUpload forgets an upload.
func (p Peers) DropUpload(registry string, name oci.Name, digest oci.Digest) error {
	return p.DB.Exec("DELETE FROM peer_uploads WHERE registry = ? AND name = ? AND digest = ?", registry, name, digest).Error
}
