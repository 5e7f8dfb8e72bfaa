// A small study with images that was really trained: three candidates, two seeds, three classes.
#pragma once

#include "support/support.hpp"

#include "jevrin/ledger/ledger.hpp"
#include "jevrin/plan/plan.hpp"
#include "jevrin/study/study.hpp"

#include <memory>
#include <string>
#include <vector>

namespace jevrin::test {

class TrainedStudy : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<TemporaryDirectory>();
        train_study(read_plan(write_small_study(directory_->path(), small_plan(3))), ledger_directory());
    }
    static void TearDownTestSuite() { directory_.reset(); }

    static std::filesystem::path ledger_directory() { return *directory_ / "ledger"; }
    static Ledger ledger() { return Ledger::open(ledger_directory()); }
    // Ids of the items of a part.
    static std::vector<std::string> items(Part part) {
        const Ledger open = ledger();
        std::vector<std::string> ids;
        for (const ItemRecord& item : open.items(open.run(open.study().id, "new head/1").id, part))
            ids.push_back(item.id);
        return ids;
    }

    static inline std::unique_ptr<TemporaryDirectory> directory_;
};

}  // namespace jevrin::test
