// Package api holds the Go types of the management API and its typed client. The
// service's OpenAPI document and the console's types are made from these types;
// nothing about the API is written twice.
package api
