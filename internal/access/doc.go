// Package access says who may do what, and why not. It knows accounts and the
// credentials by which they come, the roles they have, and the registry's tokens;
// it answers each question with a verdict that carries the missing right in words.
//
// It promises that what is asked is decided by the rights of that moment: a role
// that was taken and a token that was revoked act at the next request. Secrets are
// kept as hashes alone, and are told to their owner once.
//
// It knows no request: the doors hand it names, secrets and addresses.
package access
