// Package chain puts certificates in order: which one is the leaf, which path
// leads from it to a trust anchor, what is missing and what stands wrong.
//
// The search is bounded and keeps going past failures, because a report must
// name the reason why the best path fails and not only that none is valid.
// Dates do not make a path invalid here: they are judged on their own, but a
// path on which everything is in date is preferred.
package chain
