/**
 * What no program in a sandbox may ask of the kernel, as a classic BPF program for seccomp(2) in the form that bubblewrap takes
 * (`struct sock_filter`, little endian; see linux/filter.h and linux/seccomp.h).
 *
 * Refused: namespaces of one's own for users (a way to more of the kernel), looking into and taking descriptors from other
 * processes, keyrings (they belong to the account, which other work shares), io_uring (it passes by this filter), bpf, perf,
 * userfaultfd, files by handle, larger pipes (their pages are counted for the account as well); and sockets of every family but those of files, IPv4, IPv6 and netlink: others (virtual machines, radios,
 * buses) are not held by a network namespace. Programs of another architecture than the machine's own are refused all calls.
 */

interface Numbers {
  /** AUDIT_ARCH_* of linux/audit.h. */
  arch: number;
  clone: number;
  clone3: number;
  unshare: number;
  /** socket and socketpair: their first argument is the family. */
  sockets: readonly number[];
  /** Refused with EPERM. */
  forbidden: readonly number[];
  /** fcntl: of its commands one is refused. */
  fcntl: number;
  /** Refused with ENOSYS: programs go on without them. */
  absent: readonly number[];
}

/** Numbers of asm/unistd.h. In order: setns, ptrace, process_vm_readv, process_vm_writev, pidfd_getfd, kcmp, keyctl, add_key, request_key, bpf, perf_event_open, userfaultfd, open_by_handle_at; io_uring_setup, _enter, _register. */
const machines: Record<string, Numbers> = {
  x64: {
    arch: 0xc000003e,
    clone: 56,
    clone3: 435,
    unshare: 272,
    sockets: [41, 53],
    fcntl: 72,
    forbidden: [308, 101, 310, 311, 438, 312, 250, 248, 249, 321, 298, 323, 304],
    absent: [425, 426, 427],
  },
  arm64: {
    arch: 0xc00000b7,
    clone: 220,
    clone3: 435,
    unshare: 97,
    sockets: [198, 199],
    fcntl: 25,
    forbidden: [268, 117, 270, 271, 438, 272, 219, 217, 218, 280, 241, 282, 265],
    absent: [425, 426, 427],
  },
};

const load = 0x20;
const jumpEqual = 0x15;
const jumpAtLeast = 0x35;
const jumpSet = 0x45;
const answer = 0x06;

const allow = 0x7fff0000;
const refuse = (errno: number): number => 0x00050000 | errno;
const EPERM = 1;
const ENOSYS = 38;
const EAFNOSUPPORT = 97;

/** AF_UNIX, AF_INET, AF_INET6, AF_NETLINK of sys/socket.h. */
const families = [1, 2, 10, 16];

/** F_SETPIPE_SZ of linux/fcntl.h: the pages of pipes are counted for the account that all sandboxes share. */
const setPipeSize = 1031;

/** CLONE_NEWUSER of linux/sched.h. */
const newUser = 0x10000000;
/** Offsets in `struct seccomp_data`. */
const at = { number: 0, arch: 4, firstArgument: 16, secondArgument: 24 } as const;

type Step = [code: number, value: number, yes?: string, no?: string];

/** The program for this kind of machine (`process.arch`), or null where its numbers are not known here. */
export function seccompProgram(machine: string): Buffer | null {
  const known = machines[machine];
  if (!known) return null;
  const steps: (Step | string)[] = [
    [load, at.arch],
    [jumpEqual, known.arch, undefined, 'absent'],
    [load, at.number],
    // The second set of numbers of x86-64 would pass by all that follows.
    ...(machine === 'x64' ? [[jumpAtLeast, 0x40000000, 'absent'] as Step] : []),
    ...known.absent.map((number): Step => [jumpEqual, number, 'absent']),
    // Its flags lie in memory, where a filter can't look: the C library takes clone instead.
    [jumpEqual, known.clone3, 'absent'],
    ...known.forbidden.map((number): Step => [jumpEqual, number, 'forbidden']),
    ...known.sockets.map((number): Step => [jumpEqual, number, 'family']),
    [jumpEqual, known.fcntl, 'fcntl'],
    [jumpEqual, known.clone, 'flags'],
    [jumpEqual, known.unshare, 'flags', 'allowed'],
    'family',
    // The kernel takes an int: what is above its 32 bits does not count.
    [load, at.firstArgument],
    ...families.map((family): Step => [jumpEqual, family, 'allowed']),
    [answer, refuse(EAFNOSUPPORT)],
    'fcntl',
    [load, at.secondArgument],
    [jumpEqual, setPipeSize, 'forbidden', 'allowed'],
    'flags',
    [load, at.firstArgument],
    [jumpSet, newUser, 'forbidden', 'allowed'],
    'allowed',
    [answer, allow],
    'forbidden',
    [answer, refuse(EPERM)],
    'absent',
    [answer, refuse(ENOSYS)],
  ];
  const places = new Map<string, number>();
  const code: Step[] = [];
  for (const step of steps) {
    if (typeof step === 'string') places.set(step, code.length);
    else code.push(step);
  }
  const bytes = Buffer.alloc(code.length * 8);
  for (const [index, [operation, value, yes, no]] of code.entries()) {
    const jump = (to: string | undefined) => (to === undefined ? 0 : (places.get(to) as number) - index - 1);
    bytes.writeUInt16LE(operation, index * 8);
    bytes.writeUInt8(jump(yes), index * 8 + 2);
    bytes.writeUInt8(jump(no), index * 8 + 3);
    bytes.writeUInt32LE(value >>> 0, index * 8 + 4);
  }
  return bytes;
}
