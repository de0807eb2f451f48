// Package passwords hashes and compares passwords, bounds how many wait for that, and
// makes wrong tries wait.
package passwords
