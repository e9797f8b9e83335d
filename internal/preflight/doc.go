// Package preflight looks ahead: which rights a load lacks, which rows it would meet, and what
// else in the database would stop or surprise it. It writes nothing.
package preflight
