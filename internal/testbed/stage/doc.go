// Package stage is what stages of claims have in common on which machines are real: the
// rest of the lab is simulated on the same switch, and whoever is hostile speaks from the
// switch in a guest's place. Which machines are real, and how they are asked, is said by
// who makes one.
package stage
