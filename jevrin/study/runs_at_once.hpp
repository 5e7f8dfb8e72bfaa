// How many runs of a study are trained at the same time.
#pragma once

#include <cstdint>
#include <vector>

namespace jevrin::inline v1 {

// bytes: what each run takes while it is trained. As many as asked for, or, asked for 0, as there are
// threads, and as are left for each of several ranks; no more than there are runs, nor than whose memory
// suffices together, whichever run meets which. InputError when what was asked for does not fit.
std::int64_t runs_at_once(std::vector<std::int64_t> bytes, std::int64_t asked, int ranks = 1);

}  // namespace jevrin::inline v1
