// One function object out of several, for std::visit.
#pragma once

namespace jevrin::inline v1 {

template <typename... Cases>
struct Overloaded : Cases... {
    using Cases::operator()...;
};
template <typename... Cases>
Overloaded(Cases...) -> Overloaded<Cases...>;

}  // namespace jevrin::inline v1
