// Package servers compares what a visit learns with what the configuration of
// real servers from Debian allows. Its tests need those servers, and run with
// "make test-servers" (build tag "servers").
package servers
