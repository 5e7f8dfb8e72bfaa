#include "jevrin/study/features.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/graph/cut.hpp"
#include "jevrin/ledger/ledger_writer.hpp"
#include "jevrin/study/materials.hpp"
#include "jevrin/training/boundary_features.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace jevrin::inline v1 {
namespace {

constexpr std::size_t rows_at_a_time = 256;

// The header of the array format, version 1.0: its length with the magic before it is a multiple of 64.
std::string array_header(const std::string& type, const std::string& shape) {
    std::string text = fmt::format("{{'descr': '{}', 'fortran_order': False, 'shape': ({}), }}", type, shape);
    const std::size_t whole = (10 + text.size() + 1 + 63) / 64 * 64;
    text.append(whole - 10 - text.size() - 1, ' ');
    text += '\n';
    std::string header = "\x93NUMPY";
    header += '\x01';
    header += '\0';
    header += static_cast<char>(text.size() & 0xFFU);
    header += static_cast<char>(text.size() >> 8U);
    return header + text;
}

template <typename Value>
void append(std::string& bytes, std::span<const Value> values) {
    bytes.append(reinterpret_cast<const char*>(values.data()), values.size_bytes());
}

// The candidate of this name, or the first with frozen layers.
const Candidate& frozen_candidate(const Plan& plan, const std::string& name) {
    if (!name.empty()) return candidate_called(plan, name);
    for (const Candidate& candidate : plan.candidates)
        if (candidate.regime != Regime::scratch) return candidate;
    throw InputError("no candidate of this plan has frozen layers");
}

}  // namespace

FeatureExport export_features(const Materials& materials, const std::string& name, TestItems test,
                              const std::filesystem::path& directory, const MaterialsProgress& progress) {
    const Candidate& candidate = frozen_candidate(materials.plan, name);
    if (candidate.regime == Regime::scratch)
        throw InputError(fmt::format(
            "{}: candidate '{}' is scratch and has no frozen layers; name a frozen or partial one",
            candidate.place, candidate.name));
    const CandidateNetwork built = build_network(materials.plan, candidate, materials.backbones,
                                                 materials.data.classes, materials.plan.seeds.front());
    const NetworkHalves halves = cut_network(built.network, cut_before(built.network, built.first_trained()));
    BoundaryFeatures features(*materials.images, halves.frozen, materials.scaling_for(candidate),
                              {.keep = false});
    std::map<std::size_t, Part> parts;
    for (const Part part : all_parts)
        if (part != Part::test || test == TestItems::included)
            for (const std::size_t item : materials.parts.of(part)) parts[item] = part;
    std::vector<std::int64_t> items;
    for (const auto& [item, part] : parts) items.push_back(static_cast<std::int64_t>(item));

    FeatureExport result{.items = std::ssize(items),
                         .width = features.values_per_item(),
                         .boundary = halves.frozen.nodes.back().name};
    std::string numbers = array_header("<f4", fmt::format("{}, {}", result.items, result.width));
    std::string labels = array_header("<i8", fmt::format("{},", result.items));
    std::vector<std::string> heads = {"item", "label", "part"};
    for (std::int64_t f = 0; f < result.width; ++f) heads.push_back(fmt::format("f{}", f + 1));
    std::string table = csv_row(heads);
    std::vector<float> rows(rows_at_a_time * static_cast<std::size_t>(result.width));
    for (std::size_t begin = 0; begin < items.size(); begin += rows_at_a_time) {
        const auto some = std::span(items).subspan(begin, std::min(rows_at_a_time, items.size() - begin));
        const auto values = std::span(rows).first(some.size() * static_cast<std::size_t>(result.width));
        features.fill(some, values);
        append(numbers, std::span<const float>(values));
        for (std::size_t i = 0; i < some.size(); ++i) {
            const auto item = static_cast<std::size_t>(some[i]);
            const auto label = static_cast<std::int64_t>(materials.data.labels[item]);
            append(labels, std::span(&label, 1));
            std::vector<std::string> cells = {materials.set.items[item].id,
                                              materials.set.classes[materials.data.labels[item]],
                                              name_of(parts[item])};
            for (std::int64_t f = 0; f < result.width; ++f)
                cells.push_back(fmt::format(
                    "{}", values[i * static_cast<std::size_t>(result.width) + static_cast<std::size_t>(f)]));
            table += csv_row(cells);
        }
        if (progress)
            progress("computing features", static_cast<std::int64_t>(begin + some.size()), result.items);
    }
    make_directory(directory);
    write_file(directory / "features.npy", numbers);
    write_file(directory / "labels.npy", labels);
    write_file(directory / "features.csv", table);
    return result;
}

bool record_features_look(const Materials& materials, const std::filesystem::path& ledger) {
    if (!Ledger::exists(ledger)) return false;
    std::vector<ContentHash> images;
    for (const std::size_t item : materials.parts.test) images.push_back(materials.set.items[item].content);
    LedgerWriter::open(ledger).record_look("features", images);
    return true;
}

}  // namespace jevrin::inline v1
