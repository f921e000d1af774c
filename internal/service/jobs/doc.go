// Package jobs carries audits out. An audit is four kinds of job on the queue
// in PostgreSQL:
//
//	plan   finds the addresses of every endpoint and inserts one visit each
//	visit  visits one address and stores the observation
//	judge  judges endpoints as soon as their visits have ended, provisionally
//	close  judges all of them as of one time and by all that the audit met, and ends it
//
// A person begins it, or a schedule that is due, which one of all processes takes.
//
// None of them has more than a portion of the audit in memory. Every step is
// safe to run twice: visits are unique by audit, endpoint, address and server
// name, a result is stored only where one is still waited for, and each
// endpoint has a stage, which moves in the transaction that stores what was
// worked out. So a killed service loses nothing, and nothing is done twice.
package jobs
