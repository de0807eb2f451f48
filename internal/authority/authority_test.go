package authority

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func shown(t *testing.T, c *Certificates) *x509.Certificate {
	picked, err := c.Config().GetCertificate(&tls.ClientHelloInfo{ServerName: "localhost", SupportedVersions: []uint16{tls.VersionTLS13}})
	require.NoError(t, err)
	return picked.Leaf
}

func TestTheCertificateOfAPrivateAuthorityIsRenewedBeforeItEnds(t *testing.T) {
	folder := t.TempDir()
	private, err := OpenPrivate(folder)
	require.NoError(t, err)
	c, err := FromAuthority(private, []string{"localhost", "127.0.0.1", "registry.larkspur.example"})
	require.NoError(t, err)
	now := time.Now()
	c.now = func() time.Time { return now }
	first := shown(t, c)
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM(private.PEM()))
	for _, name := range []string{"localhost", "127.0.0.1", "registry.larkspur.example"} {
		_, err = first.Verify(x509.VerifyOptions{Roots: pool, DNSName: name})
		assert.NoError(t, err, name)
	}
	_, err = first.Verify(x509.VerifyOptions{Roots: pool, DNSName: "elsewhere.example"})
	assert.Error(t, err)
	assert.True(t, first.IPAddresses[0].Equal(net.IPv4(127, 0, 0, 1)))

	now = first.NotAfter.Add(-leafLife / 2)
	assert.Equal(t, first.SerialNumber, shown(t, c).SerialNumber, "half of its life is left")
	now = first.NotAfter.Add(-leafLife / 4)
	renewed := shown(t, c)
	assert.NotEqual(t, first.SerialNumber, renewed.SerialNumber)
	assert.True(t, renewed.NotAfter.After(first.NotAfter))
}

func TestAPrivateAuthorityThatIsHalfThereIsNotReplaced(t *testing.T) {
	folder := t.TempDir()
	first, err := OpenPrivate(folder)
	require.NoError(t, err)
	again, err := OpenPrivate(folder)
	require.NoError(t, err)
	assert.Equal(t, first.Fingerprint(), again.Fingerprint())
	require.NoError(t, os.WriteFile(filepath.Join(folder, authorityKeyFile), []byte("no key"), 0o600))
	_, err = OpenPrivate(folder)
	assert.Error(t, err, "clients trust the one that was: it is not made anew in silence")
}
