// Package judge turns facts into findings and a verdict. It is one pure
// function of facts, policy, trust stores and time: no clock, network, disk or
// database. The same input gives the same output, so facts can be judged again
// for another day, another policy or another audience.
//
// Each check is a function with one signature in an ordered list. One cause
// gives one finding: where a stronger or more exact code exists, the check that
// finds it is the only one that speaks.
package judge
