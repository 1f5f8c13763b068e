// Package witness is what a guest and the witness outside say to each other: the guest asks
// what the witness sees of it, and the witness says so and signs it. It is one state machine
// on either side, without sockets and clocks; docs/witness.md describes the messages and what
// they are to withstand.
//
// Keys are derived from the lab's token by HKDF (RFC 5869) with SHA-256. What a guest asks is
// authenticated by HMAC-SHA-256 (RFC 2104), what the witness says by Ed25519 (RFC 8032).
package witness
