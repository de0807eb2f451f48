package kit

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

// MemberPassword is that of the accounts that MakeAccount makes.
const MemberPassword = "a password of the test"

// PutBlob pushes a blob in one piece.
func PutBlob(t testing.TB, s *Service, repository string, raw []byte) oci.Digest {
	d := oci.DigestOf(oci.SHA256, raw)
	answer, body := s.Do(http.MethodPost, "/v2/"+repository+"/blobs/uploads/?digest="+d.String(), bytes.NewReader(raw))
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	return d
}

// PutManifest pushes a document under a tag or its digest and returns its descriptor.
func PutManifest(t testing.TB, s *Service, repository, target, mediaType string, document any) oci.Descriptor {
	raw, err := json.Marshal(document)
	require.NoError(t, err)
	d := oci.Descriptor{MediaType: mediaType, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}
	if target == "" {
		target = d.Digest.String()
	}
	answer, body := s.Do(http.MethodPut, "/v2/"+repository+"/manifests/"+target, bytes.NewReader(raw), "Content-Type", mediaType)
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	return d
}

// Status returns what a request without a body is answered with.
func Status(s *Service, method, path string) (int, string) {
	answer, body := s.Do(method, path, nil)
	return answer.StatusCode, string(body)
}

// Artifact returns a manifest without layers, which a number makes another one.
func Artifact(config oci.Digest, subject *oci.Descriptor, artifactType string, number int) v1.Manifest {
	m := v1.Manifest{
		MediaType: oci.MediaTypeImage, ArtifactType: artifactType, Subject: subject, Layers: []oci.Descriptor{},
		Config:      oci.Descriptor{MediaType: oci.MediaTypeEmpty, Digest: config, Size: 2},
		Annotations: map[string]string{"number": fmt.Sprint(number)},
	}
	m.SchemaVersion = 2
	return m
}

// MakeAccount makes an account with a password on a service.
func MakeAccount(t testing.TB, s *Service, name string) {
	AsAdmin(t, s, http.MethodPost, "/api/v1/accounts", `{"name":"`+name+`","password":"`+MemberPassword+`"}`)
}

// AsAdmin sends a request of the admin to the management API.
func AsAdmin(t testing.TB, s *Service, method, path, body string) []byte {
	answer, raw := s.Do(method, path, strings.NewReader(body), "Content-Type", "application/json")
	require.Less(t, answer.StatusCode, 300, "%s %s: %s", method, path, raw)
	return raw
}

// OwnClient gives the commands of one test files of their own.
func OwnClient(t testing.TB) {
	folder := t.TempDir()
	t.Setenv("WARTHESIS_CLIENT_FOLDER", folder)
	t.Setenv("WARTHESIS_CLIENT_LOGIN_FILE", filepath.Join(folder, "config.json"))
}

// Basic returns the header of a login by name and secret.
func Basic(account, secret string) []string {
	request := http.Request{Header: http.Header{}}
	request.SetBasicAuth(account, secret)
	return []string{"Authorization", request.Header.Get("Authorization")}
}

// Bearer returns the header of a login by a token.
func Bearer(token string) []string { return []string{"Authorization", "Bearer " + token} }

// Certificate writes a certificate for a name, signed by itself, and its key.
func Certificate(t testing.TB, folder, name string, serial int64) string {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
	}, &x509.Certificate{Subject: pkix.Name{CommonName: "test"}}, key.Public(), key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	at, keyAt := filepath.Join(folder, name+".pem"), filepath.Join(folder, name+"-key.pem")
	require.NoError(t, os.WriteFile(keyAt, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))
	require.NoError(t, os.WriteFile(at, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return at + ":" + keyAt
}

// SameFiles checks that every file of one layout's blobs is in the other.
func SameFiles(t testing.TB, image Image, folder string) {
	for d, raw := range image.Blobs {
		got, err := os.ReadFile(filepath.Join(folder, "blobs/sha256", d.Encoded()))
		require.NoError(t, err)
		require.True(t, bytes.Equal(raw, got), "blob %s comes back as it went", d)
	}
	got, err := os.ReadFile(filepath.Join(folder, "blobs/sha256", image.Manifest.Digest.Encoded()))
	require.NoError(t, err)
	require.Equal(t, string(image.Raw), string(got), "the manifest comes back as it went")
}

// StartUpload opens an upload and returns where it goes on.
func StartUpload(t testing.TB, s *Service, repository string) string {
	answer, raw := s.Do(http.MethodPost, "/v2/"+repository+"/blobs/uploads/", nil)
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", raw)
	return answer.Header.Get("Location")
}
