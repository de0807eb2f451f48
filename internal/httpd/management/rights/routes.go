// Package rights answers about who may do what: sessions, tokens, accounts, groups,
// roles, identities, and the audit log.
package rights

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management/desk"
)

type door struct{ *desk.Desk }

// Register puts the routes of this area into the API.
func Register(router gin.IRouter, a huma.API, o *desk.Desk) {
	d := &door{o}
	huma.Register(a, desk.At(http.MethodPost, "/session", "sign-in", "Sign in to the console"), d.signIn)
	huma.Register(a, desk.At(http.MethodDelete, "/session", "sign-out", "Sign out, or end a login"), d.signOut)
	huma.Register(a, desk.At(http.MethodGet, "/me", "me", "Who asks, and what they may do"), d.me)
	huma.Register(a, desk.At(http.MethodGet, "/verdict", "verdict", "Whether the caller may do something"), d.verdict)
	huma.Register(a, desk.At(http.MethodGet, "/tokens", "tokens", "List tokens"), d.tokens)
	huma.Register(a, desk.At(http.MethodPost, "/tokens", "make-token", "Make a token"), d.makeToken)
	huma.Register(a, desk.At(http.MethodPost, "/tokens/short", "short-token", "Get a token that stands for the caller's login for a short time"), d.shortToken)
	huma.Register(a, desk.At(http.MethodDelete, "/tokens/{token}", "revoke-token", "Revoke a token"), d.revokeToken)
	huma.Register(a, desk.At(http.MethodPost, "/tokens/{token}/replace", "replace-token", "Revoke a token and make one like it"), d.replaceToken)
	huma.Register(a, desk.At(http.MethodGet, "/accounts", "accounts", "List accounts"), d.accounts)
	huma.Register(a, desk.At(http.MethodGet, "/accounts/{name}", "account", "One account, with its roles and what it may do"), d.account)
	huma.Register(a, desk.At(http.MethodPost, "/accounts", "make-account", "Make an account"), d.makeAccount)
	huma.Register(a, desk.At(http.MethodPatch, "/accounts/{name}", "change-account", "Change an account"), d.changeAccount)
	huma.Register(a, desk.At(http.MethodPut, "/accounts/{name}/password", "set-password", "Set a password"), d.setPassword)
	huma.Register(a, desk.At(http.MethodGet, "/accounts/{name}/roles", "roles-of", "The roles of an account"), d.rolesOf)
	huma.Register(a, desk.At(http.MethodGet, "/groups", "groups", "List groups"), d.groups)
	huma.Register(a, desk.At(http.MethodGet, "/groups/{name}", "group", "One group, with the roles it gives"), d.group)
	huma.Register(a, desk.At(http.MethodPost, "/groups", "make-group", "Make a group"), d.makeGroup)
	huma.Register(a, desk.At(http.MethodPatch, "/groups/{name}", "change-group", "Change a group"), d.changeGroup)
	huma.Register(a, desk.At(http.MethodDelete, "/groups/{name}", "remove-group", "Remove a group"), d.removeGroup)
	huma.Register(a, desk.At(http.MethodPut, "/groups/{name}/members/{account}", "join-group", "Put an account into a group"), d.joinGroup)
	huma.Register(a, desk.At(http.MethodDelete, "/groups/{name}/members/{account}", "leave-group", "Take an account out of a group"), d.leaveGroup)
	huma.Register(a, desk.At(http.MethodPost, "/teams", "make-team", "Make a namespace, a group and the roles between them"), d.makeTeam)
	huma.Register(a, desk.At(http.MethodGet, "/roles", "roles", "Who has which roles in a place"), d.roles)
	huma.Register(a, desk.At(http.MethodGet, "/roles/uses", "role-uses", "What was done by a role that a narrower one would not have allowed"), d.roleUses)
	huma.Register(a, desk.At(http.MethodPut, "/roles", "give-role", "Give a role, or narrow one"), d.giveRole)
	huma.Register(a, desk.At(http.MethodDelete, "/roles", "take-role", "Take a role"), d.takeRole)
	huma.Register(a, desk.At(http.MethodGet, "/audit", "audit", "Read the audit log"), d.audit)
	huma.Register(a, desk.At(http.MethodGet, "/audit/lines", "audit-lines", "The audit log as JSON lines, the newest first"), d.auditLines)
	huma.Register(a, desk.At(http.MethodPost, "/keys/rotate", "rotate-keys", "Let new bearer tokens be signed by a new key"), d.rotateKeys)
	huma.Register(a, desk.At(http.MethodPost, "/company/device", "begin-device", "Begin a login of a terminal by the company's login"), d.beginDevice)
	huma.Register(a, desk.At(http.MethodPost, "/company/device/{handle}", "end-device", "Ask whether a login of a terminal was confirmed"), d.endDevice)
	huma.Register(a, desk.At(http.MethodPost, "/identity", "trade-identity", "Trade an identity of an issuer for a short token of a machine account"), d.tradeIdentity)
	huma.Register(a, desk.At(http.MethodGet, "/identity-rules", "identity-rules", "List identity rules"), d.identityRules)
	huma.Register(a, desk.At(http.MethodPost, "/identity-rules", "make-identity-rule", "Make an identity rule"), d.makeIdentityRule)
	huma.Register(a, desk.At(http.MethodDelete, "/identity-rules/{name}", "remove-identity-rule", "Remove an identity rule"), d.removeIdentityRule)
	router.GET(companyBegin, d.companyBegin)
	router.GET(companyEnd, d.companyEnd)
}
