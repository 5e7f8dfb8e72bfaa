// The processor, for records and for caches whose bits depend on it.
#pragma once

#include <string>

namespace jevrin::inline v1 {

struct Processor {
    std::string name;  // as the system calls it, with the widest vectors it has
    int cores = 1;     // that this process may use
    int all = 1;       // cores of the machine
};

// Looked up once.
const Processor& processor();

}  // namespace jevrin::inline v1
