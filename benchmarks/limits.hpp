// What this machine can do at most, measured beside the work: other programs share the machine and its speed
// drifts.
#pragma once

namespace jevrin::bench {

// Single-precision operations per second of a register-only fused multiply-add loop with the widest vectors,
// on this many threads at once. This and the others take about 20 ms, repeated until at least so many seconds
// have passed: a limit must see as much of the machine as the work beside it, since processors that other
// programs share give short bursts and long ones different speeds.
double arithmetic_limit(int threads, double least_seconds = 0.0);

// The same of serial BLAS products of 1024^3, one on each thread.
double product_limit(int threads, double least_seconds = 0.0);

// Bytes per second, read and written, of copying arrays far larger than the caches, a fraction on each
// thread.
double copy_limit(int threads, double least_seconds = 0.0);

}  // namespace jevrin::bench
