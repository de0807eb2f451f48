// Package test holds the tests of the whole program: the service as a process of its
// own, and the suite of the standard. Those of the client are in client, those of
// the console in console, and killed has those that end the service in its work: they
// run side by side.
package test
