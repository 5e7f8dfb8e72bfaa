#include "commands.hpp"

namespace jevrin::app {

// Each in the file of its command.
void add_demo(Command&);
void add_survey(Command&);
void add_compose(Command&);
void add_check(Command&);
void add_layers(Command&);
void add_features(Command&);
void add_train(Command&);
void add_watch(Command&);
void add_show(Command&);
void add_scores(Command&);
void add_classes(Command&);
void add_confusion(Command&);
void add_mistakes(Command&);
void add_item(Command&);
void add_thresholds(Command&);
void add_suspects(Command&);
void add_mark(Command&);
void add_marks(Command&);
void add_runs(Command&);
void add_curves(Command&);
void add_diagnose(Command&);
void add_recall(Command&);
void add_agreement(Command&);
void add_amounts(Command&);
void add_choose(Command&);
void add_export(Command&);
void add_classify(Command&);
void add_note(Command&);
void add_archive(Command&);
void add_delete(Command&);
void add_merge(Command&);
void add_contrast(Command&);

const std::vector<CommandGroup>& command_groups() {
    static const std::vector<CommandGroup> groups = {
        {"before training",
         {
             {"demo", "make the demo's images, train its plan, compare, write the results", add_demo},
             {"survey", "look at an image set: counts, sizes, problems, duplicates", add_survey},
             {"compose", "write a new labelled set: augmented copies, parts laid over", add_compose},
             {"check", "read a plan and dry-run each candidate before paying for it", add_check},
             {"layers", "what each stage of a model makes of one image, and its first filters", add_layers},
             {"features", "write what frozen layers make of each image, for use elsewhere", add_features},
         }},
        {"training",
         {
             {"train", "train every run of a plan that is missing; resume what was interrupted", add_train},
             {"watch", "follow a study that is being trained in another terminal", add_watch},
         }},
        {"one run",
         {
             {"show", "one run in full: the plan that repeats it, where it was trained, its layers",
              add_show},
             {"scores", "everything a run is scored by, with intervals, baselines and calibration",
              add_scores},
             {"classes", "figures of each class, the weakest classes and the strongest confusions first",
              add_classes},
             {"confusion", "the confusion matrix of a run: rows are true classes", add_confusion},
             {"mistakes", "the items behind a run's figures, the worst first", add_mistakes},
             {"item", "one item in full: all probabilities, and the training items most like it", add_item},
             {"thresholds", "precision, recall and ROC by threshold, and answering only when sure",
              add_thresholds},
             {"suspects", "items whose label is probably wrong, the most suspect first", add_suspects},
             {"mark", "keep items for review, with a note or another label", add_mark},
             {"marks", "the items that are marked, and corrections made of them", add_marks},
         }},
        {"across runs",
         {
             {"runs", "a line per run; filtered, sorted and grouped by any setting", add_runs},
             {"curves", "training and validation curves of runs", add_curves},
             {"diagnose",
              "what the curves of each run say: fit, overfit, underfit, still improving, unstable",
              add_diagnose},
             {"recall", "recall of each class by candidate", add_recall},
             {"agreement", "items across runs: which all miss, which only one regime gets right",
              add_agreement},
             {"amounts",
              "score by amount of training data: would more pictures help, where does one regime catch up",
              add_amounts},
             {"choose", "the ranking of candidates, the evidence and the choice", add_choose},
         }},
        {"in use",
         {
             {"export", "write a run's model as one ONNX file with classes and preparation inside",
              add_export},
             {"classify", "classes and probabilities for new images", add_classify},
         }},
        {"the ledger",
         {
             {"note", "a note and tags on runs; without options, shows them", add_note},
             {"archive", "put runs away: they stay recorded, and out of every table, figure and choice",
              add_archive},
             {"delete", "delete what runs recorded and their models; looks at the test part stay counted",
              add_delete},
             {"merge", "copy the studies, runs and models of another ledger that this one lacks", add_merge},
             {"contrast", "what differs between two ledgers, run by run", add_contrast},
         }},
    };
    return groups;
}

}  // namespace jevrin::app
