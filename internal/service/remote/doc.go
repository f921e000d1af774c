// Package remote lets workers make visits that reach nothing but the service's API: a machine outside, from which the
// database must not be reached. Each such worker has a session here. The service works the jobs of its vantage as it
// does all others, with the same turns at hosts and the same records; only the looking up and the visiting itself is
// handed to the worker, as a task whose result is waited for.
package remote
