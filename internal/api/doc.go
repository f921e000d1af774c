// Package api holds the request and response types of the HTTP API, shared by
// service and client. The service adds the operations; the OpenAPI document is
// made from both.
package api

// Base is the path below which every operation lies.
const Base = "/api/v1"
