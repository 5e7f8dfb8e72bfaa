// Texts that were read once and are kept in tests/recorded/, so that any change of a word or a number shows.
// With JEVRIN_WRITE_RECORDED set they are written anew; then read what differs before it is committed.
#pragma once

#include "support/made_up_study.hpp"

#include <memory>
#include <string>

namespace jevrin::test {

// Fails when the text is not the one that is kept under this name. Times and the directory are left out, and
// numbers have at most six significant digits: processors may differ in the last ones.
void expect_recorded(const std::string& name, std::string text, const std::filesystem::path& directory);

// Three regimes, one with variants, seeds that differ, runs from elsewhere, a failed and an unfinished run, a
// warning, a tag, a note and marks. The study has four classes of 24 items.
void fill_with_everything(MadeUpStudy& study);

// More candidates than tables and figures show, three of them with four seeds, with names that become long.
void fill_with_many(MadeUpStudy& study);

// One of these studies, made once for a suite.
template <typename Make>
class StudyMadeOnce : public testing::Test {
  protected:
    static void SetUpTestSuite() {
        directory_ = std::make_unique<TemporaryDirectory>();
        study_ = Make()(directory_->path());
    }
    static void TearDownTestSuite() {
        study_.reset();
        directory_.reset();
    }
    static const Ledger& ledger() { return study_->ledger(); }
    static StudyRecord study() { return study_->study(); }

    static inline std::unique_ptr<TemporaryDirectory> directory_;
    static inline std::unique_ptr<MadeUpStudy> study_;
};

// Of four classes of 24 items.
struct WithEverything {
    std::unique_ptr<MadeUpStudy> operator()(const std::filesystem::path& directory) const {
        auto study = std::make_unique<MadeUpStudy>(directory, 4, 24, Metric::balanced_accuracy);
        fill_with_everything(*study);
        return study;
    }
};
using StudyWithEverything = StudyMadeOnce<WithEverything>;

// Of 64 classes of eight items.
struct WithMany {
    std::unique_ptr<MadeUpStudy> operator()(const std::filesystem::path& directory) const {
        auto study = std::make_unique<MadeUpStudy>(directory, 64, 8, Metric::accuracy,
                                                   "a class whose name is long and has a number,");
        fill_with_many(*study);
        return study;
    }
};
using StudyOfMany = StudyMadeOnce<WithMany>;

}  // namespace jevrin::test
