// Package machine is a lab as virtual machines under QEMU. Their adapters are stream
// sockets into the program's own switch, so that nothing of it needs a privilege. What
// names an image starts from that, unchanged; what names none is a reference machine: a
// Linux kernel and this very program inside it, which has the kernel's own stack do what
// the plan says and answers as the kernel stage does. The rest of the world (the outside,
// strangers, whoever is hostile) is simulated on the switch, as on that stage.
package machine

import "openbastion/internal/testbed/machine/agent"

const agentChannel = agent.Channel
