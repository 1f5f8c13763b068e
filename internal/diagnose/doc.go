// Package diagnose finds, from what is seen of a lab, which mistake it is that would
// look exactly so. Every mistake of diagnose/mistakes is rehearsed at every place of the
// plan; what each would show to whoever looks is a vector of values, one a look; what
// was seen is held against all of them.
package diagnose
