// Package pack holds the forms in which values are kept in the database: the packed ones
// of rows and evidence, and the JSON of values of the core. Each packed value begins with
// the version of its form. The JSON forms are types of their own, so that a name may
// change in the core without changing what is kept.
//
// A form that must change gets a new version: the release that brings it reads both and
// still writes the old one, the release after it writes the new one, and so two releases
// that follow each other can work beside each other (docs/operating.md). A migration that
// packs values has a copy of its own of the form of its time (internal/store/migrate).
//
// Numbers in packed values are varints (encoding/binary).
package pack
