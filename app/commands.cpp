#include "commands.hpp"

namespace jevrin::app {

// Each in the file of its command.
void add_demo(Command&);
void add_survey(Command&);
void add_compose(Command&);
void add_draft(Command&);
void add_check(Command&);
void add_layers(Command&);
void add_features(Command&);
void add_parts(Command&);
void add_train(Command&);
void add_slurm(Command&);
void add_watch(Command&);
void add_page(Command&);
void add_show(Command&);
void add_scores(Command&);
void add_classes(Command&);
void add_confusion(Command&);
void add_mistakes(Command&);
void add_thresholds(Command&);
void add_suspects(Command&);
void add_marks_list(Command&);
void add_marks_add(Command&);
void add_marks_remove(Command&);
void add_runs(Command&);
void add_curves(Command&);
void add_diagnose(Command&);
void add_agreement(Command&);
void add_choose(Command&);
void add_export(Command&);
void add_classify(Command&);
void add_marks_received(Command&);
void add_marks_accept(Command&);
void add_marks_reject(Command&);
void add_service_start(Command&);
void add_service_publish(Command&);
void add_service_withdraw(Command&);
void add_service_models(Command&);
void add_service_add_key(Command&);
void add_service_remove_key(Command&);
void add_service_keys(Command&);
void add_ledger_add(Command&);
void add_ledger_merge(Command&);
void add_ledger_compare(Command&);
void add_ledger_archive(Command&);
void add_ledger_delete(Command&);
void add_ledger_note(Command&);

const std::vector<CommandGroup>& command_groups() {
    static const std::vector<CommandGroup> groups = {
        {"before training",
         {
             {"demo", "make the demo images, train and compare their candidates, write the results",
              add_demo},
             {"survey", "inspect an image set: class counts, sizes, unreadable files, duplicates",
              add_survey},
             {"compose", "write a new labelled image set: augmented copies, pasted overlays", add_compose},
             {"draft", "write a first plan for a folder of images: three regimes, reasons, a time budget",
              add_draft},
             {"check", "validate a plan: run one batch through each candidate, estimate its cost", add_check},
             {"layers", "activations of every stage of a model for one image, and its first filters",
              add_layers},
             {"features", "write the features of frozen layers for every image (NPY, CSV)", add_features},
             {"parts", "write which image is in which part, for programs that train elsewhere (CSV, JSON)",
              add_parts},
         }},
        {"training",
         {
             {"train", "train the missing runs of a plan; resume interrupted ones", add_train},
             {"slurm", "write a batch script that trains a plan on a Slurm cluster", add_slurm},
             {"watch", "follow the training of a study from another terminal", add_watch},
         }},
        {"one run",
         {
             {"show",
              "a run in full: plan, environment, layers; or one item: its probabilities and neighbours",
              add_show},
             {"scores", "all scores of a run, with intervals, baselines and calibration", add_scores},
             {"classes", "per-class scores of a run; of several runs, recall per class and candidate",
              add_classes},
             {"confusion", "the confusion matrix of a run: rows are true classes", add_confusion},
             {"mistakes", "misclassified items, the most confident first", add_mistakes},
             {"thresholds", "precision, recall and ROC by threshold; coverage and accuracy by confidence",
              add_thresholds},
             {"suspects", "items whose label is probably wrong, the least probable label first",
              add_suspects},
             {"marks",
              "items marked for review, and images that were sent back: list, add, remove, accept, reject",
              nullptr,
              {
                  {"list", "the marked items; write their proposed labels as a corrections file",
                   add_marks_list},
                  {"add", "mark items, with a note or a proposed label", add_marks_add},
                  {"remove", "remove the marks of items", add_marks_remove},
                  {"received", "images that users of a model in service sent back; write the accepted ones",
                   add_marks_received},
                  {"accept", "accept such images for the next version of the image set", add_marks_accept},
                  {"reject", "reject such images", add_marks_reject},
              }},
         }},
        {"across runs",
         {
             {"runs", "one line per run; filter, sort and group by any setting", add_runs},
             {"curves", "training and validation curves; score by training-set size", add_curves},
             {"diagnose", "diagnose curves: good fit, overfit, underfit, still improving, unstable",
              add_diagnose},
             {"agreement",
              "agreement of predictions across runs; items that all runs misclassify, or one regime alone "
              "gets right",
              add_agreement},
             {"choose", "rank the candidates with evidence and choose one", add_choose},
         }},
        {"to look at",
         {
             {"page", "a study as a page in the browser, live while it trains", add_page},
         }},
        {"in use",
         {
             {"export", "write a run's model as one ONNX file, classes and preparation included", add_export},
             {"classify", "predict classes and probabilities of new images", add_classify},
         }},
        {"for programs",
         {
             {"service",
              "a server for programs, with keys: classify images, take in runs trained elsewhere",
              nullptr,
              {
                  {"start", "answer programs over HTTP until Ctrl-C or SIGTERM", add_service_start},
                  {"publish", "put a model in service under the next version of a name", add_service_publish},
                  {"withdraw", "take a version back; the one before it serves again", add_service_withdraw},
                  {"models", "the models in service, and those that were", add_service_models},
                  {"add-key", "make a key and print it, once", add_service_add_key},
                  {"remove-key", "remove a key; it counts no more within a second", add_service_remove_key},
                  {"keys", "the names of all keys and what they allow", add_service_keys},
              }},
         }},
        {"the ledger",
         {
             {"ledger",
              "maintain ledgers: add, merge, compare, archive, delete, note",
              nullptr,
              {
                  {"add", "take in runs that were trained elsewhere, with their curves and predictions",
                   add_ledger_add},
                  {"merge", "copy the studies, runs and models that this ledger lacks from another one",
                   add_ledger_merge},
                  {"compare", "list the runs in which two ledgers differ", add_ledger_compare},
                  {"archive", "hide runs from every table, figure and choice; they stay recorded",
                   add_ledger_archive},
                  {"delete", "delete runs, their records and models; looks at the test part remain counted",
                   add_ledger_delete},
                  {"note", "add a note and tags to runs; without options, print them", add_ledger_note},
              }},
         }},
    };
    return groups;
}

}  // namespace jevrin::app
