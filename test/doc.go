// Package test holds the tests of the whole program: the service as a process of
// its own, its client, its console in a browser, and the suite of the standard.
package test
