// Package bearer is what short bearer tokens are made of: the scopes that are asked
// for, the claims that are given, and the keys that sign them. Who may have which is
// the business of access.
package bearer
