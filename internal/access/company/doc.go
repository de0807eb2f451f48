// Package company is the company's login: the registry as a client of an OpenID Connect
// issuer, in a browser and for terminals.
package company
