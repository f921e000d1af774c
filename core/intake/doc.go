// Package intake turns bytes and paths into material. What a file is, its
// contents decide, never its name.
//
// It reads on past every defect of the form and notes it with line and byte,
// so that one bad block never hides the others. RFC 7468, section 3, says
// which of three grammars a text follows: the standard one, the lax one, or none.
package intake
