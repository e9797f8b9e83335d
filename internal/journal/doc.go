// Package journal is what the database keeps of each load: an entry for the load, one for each
// chunk that is committed, and what no pure function of the plan knows of a chunk's rows.
//
// An entry is written before the first row, so that a load that breaks off is known. Journals are
// not trusted: whoever may write to one may write anything, so what is read is bounded by a
// Budget, and a form of another version is refused.
package journal
