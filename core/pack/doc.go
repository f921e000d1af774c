// Package pack makes the files that servers want out of any heap of material:
// it chooses the leaf and its key, puts the chain together, writes both in the
// shape that is asked for, and reads back what it wrote. It touches no disk.
package pack
