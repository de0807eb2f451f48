// Package client holds the tests of the client against services of its own and of others.
package client
