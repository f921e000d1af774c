// Package core stands for the folder: the computation of Nurvik, without
// interface code. Network and clock come in as parameters.
package core
