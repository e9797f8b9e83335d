// Package diag holds what a person is told about errors: problems of files with their places,
// and how each error of the program describes itself.
package diag
