// Package console holds the tests of the console in a browser.
package console
