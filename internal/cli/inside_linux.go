package cli

import first "openbastion/internal/testbed/machine/inside"

func runInside() error { return first.Run() }
