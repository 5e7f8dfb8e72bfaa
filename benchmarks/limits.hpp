// What this machine can do at most, measured beside the work: other programs share the machine and its speed
// drifts.
#pragma once

namespace jevrin::bench {

// Single-precision operations per second of a register-only fused multiply-add loop with the widest vectors,
// on this many threads at once; about 20 ms.
double arithmetic_limit(int threads);

// The same of serial BLAS products of 1024^3, one on each thread; about 20 ms.
double product_limit(int threads);

// Bytes per second, read and written, of copying arrays far larger than the caches, a share on each thread;
// about 20 ms.
double copy_limit(int threads);

}  // namespace jevrin::bench
