// The model that comes with a run from elsewhere: a network without a word about classes and preparation,
// which the run states.
#include "jevrin/external/external_model.hpp"

#include "support/trained_study.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/evaluation/part_predictions.hpp"
#include "jevrin/exchange/model_file.hpp"
#include "jevrin/external/run_intake.hpp"

#include <fmt/format.h>

namespace jevrin {
namespace {

using test::message_of;
using testing::AllOf;
using testing::HasSubstr;

class ForeignModel : public test::TrainedStudy {
  protected:
    // What "last stage/1" is, as another program would write it.
    std::filesystem::path written(bool with_softmax) {
        Model model{.network = own_.network, .metadata = {}};
        if (with_softmax) {
            const std::size_t last = model.network.nodes.size() - 1;
            model.network.add("softmax", operators::Softmax{}, {last});
        }
        const std::filesystem::path file = *directory_ / "foreign.onnx";
        write_model(file, model);
        return file;
    }
    // A run from elsewhere with the predictions of that model.
    RunId begun(LedgerWriter& writer, const std::string& candidate,
                const std::optional<Preparation>& preparation) {
        const Ledger& ledger = writer.ledger();
        RunIntake intake(writer);
        const RunId run =
            intake
                .create({.split = ledger.split_hash(ledger.split_with_fold(ledger.study().id, 0)),
                         .candidate = candidate,
                         .regime = Regime::scratch,
                         .preparation = preparation})
                .run;
        intake.add_predictions(run, ledger.predictions(record_.id, Part::validation), "predictions");
        return run;
    }

    RunRecord record_ = ledger().run(ledger().study().id, "last stage/1");
    Classifier own_ = load_model(ledger(), record_);
};

TEST_F(ForeignModel, IsUsedAsTheRunSaysItsImagesArePrepared) {
    LedgerWriter writer = LedgerWriter::open(ledger_directory());
    for (const bool with_softmax : {false, true}) {
        const RunId run = begun(writer, fmt::format("theirs {}", with_softmax), own_.preparation);
        RunIntake intake(writer);
        EXPECT_TRUE(intake.add_model(run, written(with_softmax)));
        EXPECT_FALSE(intake.add_model(run, written(with_softmax)));
        intake.finish(run);
        const RunRecord record = writer.ledger().run_by_id(run);
        EXPECT_TRUE(record.prediction_cost.has_value());
        const Classifier classifier = load_model(writer.ledger(), record);
        EXPECT_EQ(classifier.classes, own_.classes);
        EXPECT_EQ(classifier.preparation.to_json(), own_.preparation.to_json());
        // It knows the images of the parts that it was trained and chosen on.
        for (const Part part : {Part::training, Part::validation, Part::test})
            for (const ItemRecord& item : writer.ledger().items(run, part)) {
                const auto hash = ContentHash::from_text(item.id.substr(item.id.find('#') + 1));
                ASSERT_TRUE(hash.has_value()) << item.id;
                EXPECT_EQ(classifier.seen_images.contains(*hash), part != Part::test) << item.id;
            }
        // On images that neither has seen both say the same.
        const auto test_part = [&](const std::string& name) {
            return predict_part(ledger_directory(), "", name, Part::test).table.probabilities;
        };
        const std::vector<float> theirs = test_part(record.name());
        const std::vector<float> ours = test_part("last stage/1");
        ASSERT_EQ(theirs.size(), ours.size());
        for (std::size_t i = 0; i < ours.size(); ++i) EXPECT_NEAR(theirs[i], ours[i], 1e-4);
    }
}

TEST_F(ForeignModel, ThatDoesNotFitIsRefused) {
    LedgerWriter writer = LedgerWriter::open(ledger_directory());
    const std::filesystem::path file = written(false);
    const auto refused = [&](const std::string& candidate, const std::optional<Preparation>& preparation) {
        const RunId run = begun(writer, candidate, preparation);
        const std::string message = message_of<InputError>([&] { RunIntake(writer).add_model(run, file); });
        EXPECT_FALSE(writer.ledger().model_hash(run).has_value());
        return message;
    };
    EXPECT_THAT(refused("nothing stated", std::nullopt), HasSubstr("no classes"));
    Preparation other = own_.preparation;
    other.scaling.mean = {60.0, 60.0, 60.0};
    EXPECT_THAT(refused("other scaling", other), AllOf(HasSubstr(" of 9 validation images get another class"),
                                                       HasSubstr("(it calls '"), HasSubstr(".png' '")));
    other = own_.preparation;
    other.fitting.channels = 1;
    EXPECT_THAT(refused("grey", other), HasSubstr("'preparation' gives"));
    std::filesystem::resize_file(file, std::filesystem::file_size(file) / 2);
    EXPECT_THAT(refused("truncated", own_.preparation), HasSubstr("foreign.onnx"));
}

}  // namespace
}  // namespace jevrin
