// Package web is the service's face: the HTTP API through huma on chi, the
// console from embedded files, metrics and health.
package web
