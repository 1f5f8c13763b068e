package claims

// Subject returns the adapter that answers a question by itself.
func Subject(what Asking) (Ref, bool) {
	switch q := what.(type) {
	case AskAddress:
		return q.At, true
	case AskLease:
		return q.At, true
	case AskServers:
		return q.At, true
	case AskRouters:
		return q.At, true
	case AskIPv6:
		return q.At, true
	case AskNeighbor:
		return q.At, true
	case AskName:
		return q.At, true
	case AskHop:
		return q.At, true
	case AskOwners:
		return q.At, true
	case AskReach:
		return q.From, true
	}
	return Ref{}, false
}
