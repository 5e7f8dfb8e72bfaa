#include "jevrin/ledger/statements.hpp"

namespace jevrin::inline v1 {

void throw_no_row(const LedgerConnection& connection, std::int64_t number, const char* what) {
    throw NoRow(fmt::format("{}: there is no {} with the number {}", printable(connection.file().string()),
                            what, number));
}

}  // namespace jevrin::inline v1
