// Package killed holds the tests that end the service while it works, and look what is left.
package killed
