package cli

import first "openbastion/engine/machine/inside"

func runInside() error { return first.Run() }
