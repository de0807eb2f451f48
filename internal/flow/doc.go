// Package flow is what travels between registries: it knows how this registry reaches its
// peers, with which logins, and what each can do.
package flow
