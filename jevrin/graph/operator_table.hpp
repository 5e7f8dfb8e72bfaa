// A table with an entry for each operator, filled by families of operators.
#pragma once

#include "jevrin/graph/operators.hpp"

#include <array>
#include <variant>

namespace jevrin::inline v1 {

// std::logic_error that names an operator for which nothing was put in.
[[noreturn]] void throw_missing(const char* what, const Operator& op);

// Function is a pointer; what says of what, for messages.
template <typename Function>
class OperatorTable {
  public:
    explicit OperatorTable(const char* what) : what_(what) {}

    template <typename Op>
    void put(Function function) {
        functions_[Operator(Op()).index()] = function;
    }
    Function at(const Operator& op) const {
        const Function function = functions_[op.index()];
        if (function == nullptr) throw_missing(what_, op);
        return function;
    }

  private:
    const char* what_;
    std::array<Function, std::variant_size_v<Operator>> functions_{};
};

}  // namespace jevrin::inline v1
