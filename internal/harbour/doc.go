// Package harbour is the simulated estate of the Tarnholm Harbour Authority:
// its issuers, its endpoints good and bad, its name server and its files. The
// demo and the tests audit it. Names, addresses and serial numbers are always
// the same; dates are relative to the clock, so that "expired yesterday" stays
// true; keys are kept in the directory and made when they are missing.
package harbour
