package kit

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"
)

// Issuer stands in for a company's login: it knows one person, who confirms
// everything at once, and signs identities of programs.
type Issuer struct {
	URL string

	key *rsa.PrivateKey
	mu  sync.Mutex
	// who are the claims of the person.
	who map[string]any
	// codes are the logins under way, with the challenges that came with them.
	codes map[string]url.Values
	polls int
}

// IssuerClient is the registry's client ID at the issuer.
const IssuerClient = "warthesis-at-larkspur"

// StartIssuer starts an issuer, which ends with the test.
func StartIssuer(t testing.TB) *Issuer {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	i := &Issuer{key: key, codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", i.describe)
	mux.HandleFunc("GET /keys", i.keys)
	mux.HandleFunc("GET /authorize", i.authorize)
	mux.HandleFunc("POST /token", i.token)
	mux.HandleFunc("POST /device", i.device)
	server := httptest.NewServer(mux)
	t.Cleanup(server.Close)
	i.URL = server.URL
	return i
}

// Is says who logs in from now on.
func (i *Issuer) Is(claims map[string]any) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.who = claims
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func (i *Issuer) describe(w http.ResponseWriter, _ *http.Request) {
	answer(w, map[string]any{
		"issuer": i.URL, "authorization_endpoint": i.URL + "/authorize", "token_endpoint": i.URL + "/token", "jwks_uri": i.URL + "/keys",
		"device_authorization_endpoint": i.URL + "/device", "id_token_signing_alg_values_supported": []string{"RS256"},
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
	})
}

func (i *Issuer) keys(w http.ResponseWriter, _ *http.Request) {
	encode := base64.RawURLEncoding.EncodeToString
	answer(w, map[string]any{"keys": []any{map[string]string{
		"kty": "RSA", "alg": "RS256", "use": "sig", "kid": "1", "n": encode(i.key.N.Bytes()), "e": encode(big.NewInt(int64(i.key.E)).Bytes()),
	}}})
}

// Sign signs claims, with a life of an hour.
func (i *Issuer) Sign(audience, subject string, more map[string]any) string {
	claims := jwt.MapClaims{"iss": i.URL, "aud": audience, "sub": subject, "iat": time.Now().Unix(), "exp": time.Now().Add(time.Hour).Unix()}
	for name, value := range more {
		claims[name] = value
	}
	t := jwt.NewWithClaims(jwt.SigningMethodRS256, claims)
	t.Header["kid"] = "1"
	signed, err := t.SignedString(i.key)
	if err != nil {
		panic(err)
	}
	return signed
}

func (i *Issuer) authorize(w http.ResponseWriter, r *http.Request) {
	asked := r.URL.Query()
	if asked.Get("client_id") != IssuerClient || asked.Get("code_challenge_method") != "S256" {
		http.Error(w, "not a client of this issuer, or without a challenge", http.StatusBadRequest)
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	code := fmt.Sprint("code-", len(i.codes))
	i.codes[code] = asked
	back := url.Values{"code": {code}, "state": {asked.Get("state")}}
	http.Redirect(w, r, asked.Get("redirect_uri")+"?"+back.Encode(), http.StatusFound)
}

func (i *Issuer) device(w http.ResponseWriter, _ *http.Request) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.polls = 0
	answer(w, map[string]any{"device_code": "device", "user_code": "SLOW-TRAIN", "verification_uri": i.URL + "/enter", "interval": 1, "expires_in": 600})
}

func (i *Issuer) token(w http.ResponseWriter, r *http.Request) {
	if err := r.ParseForm(); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	nonce := ""
	if code := r.PostForm.Get("code"); code != "" {
		asked, known := i.codes[code]
		delete(i.codes, code)
		sum := sha256.Sum256([]byte(r.PostForm.Get("code_verifier")))
		if !known || asked.Get("code_challenge") != base64.RawURLEncoding.EncodeToString(sum[:]) {
			w.WriteHeader(http.StatusBadRequest)
			answer(w, map[string]string{"error": "invalid_grant"})
			return
		}
		nonce = asked.Get("nonce")
	} else if i.polls++; i.polls < 2 {
		w.WriteHeader(http.StatusBadRequest)
		answer(w, map[string]string{"error": "authorization_pending"})
		return
	}
	claims := map[string]any{"nonce": nonce}
	for name, value := range i.who {
		claims[name] = value
	}
	subject, _ := i.who["sub"].(string)
	answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "expires_in": 600, "id_token": i.Sign(IssuerClient, subject, claims)})
}
