// Package jobs carries audits out. An audit is three kinds of job on the queue
// in PostgreSQL:
//
//	plan   finds the addresses of every endpoint and inserts one visit each
//	visit  visits one address and stores the observation
//	judge  judges every endpoint once no visit is waiting any more
//
// A person begins it, or a schedule that is due, which one of all processes takes.
//
// Every step is safe to run twice: visits are unique by audit, endpoint,
// address and server name, a result is stored only where one is still waited
// for, and judging is one transaction that ends the audit. So a killed service
// loses nothing, and nothing is done twice.
package jobs
