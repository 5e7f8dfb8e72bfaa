// Model files as exporters write them: published families of networks, with random weights, in several styles
// of naming and for several operator sets. The same family has the same weights in all of them.
#pragma once

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::test {

// How an exporter names what it writes.
enum class NamingStyle {
    modules,   // nodes "/layer1/layer1.0/conv1/Conv", weights "layer1.0.conv1.weight"
    flat,      // nodes "model/layer1_0_conv1/Conv__12", weights "model/layer1_0_conv1/weight/Read:0"
    numbered,  // nodes "Conv_12", weights "layer1.0.conv1.weight", those of dense layers on tokens numbered
    anonymous  // nodes without names, values and weights numbered
};

inline constexpr NamingStyle all_naming_styles[] = {NamingStyle::modules, NamingStyle::flat,
                                                    NamingStyle::numbered, NamingStyle::anonymous};

enum class ExportedFamily {
    plain,                 // Simonyan & Zisserman 2015
    residual,              // He 2016
    densely_connected,     // Huang 2017
    inverted_residual,     // Howard 2019
    transformer,           // Dosovitskiy 2021
    windowed_transformer,  // Liu 2021
    mixer,                 // Tolstikhin 2021
    large_kernel           // Liu 2022
};
inline constexpr ExportedFamily all_exported_families[] = {ExportedFamily::plain,
                                                           ExportedFamily::residual,
                                                           ExportedFamily::densely_connected,
                                                           ExportedFamily::inverted_residual,
                                                           ExportedFamily::transformer,
                                                           ExportedFamily::windowed_transformer,
                                                           ExportedFamily::mixer,
                                                           ExportedFamily::large_kernel};
const char* name_of(ExportedFamily family);
const char* name_of(NamingStyle style);

// Where the file ends.
enum class ExportedEnd {
    classes,   // a dense layer, to seven classes
    features,  // before it: a vector
    values     // before any pooling: a map, tokens, or the class token among its tokens
};

struct ExportSettings {
    ExportedFamily family = ExportedFamily::residual;
    NamingStyle style = NamingStyle::modules;
    int opset = 17;
    ExportedEnd end = ExportedEnd::classes;
    std::int64_t size = 32;  // of the images it is exported for
};
// Features before the last dense layer of each family.
std::int64_t feature_width(ExportedFamily family);

void write_exported_model(const std::filesystem::path& file, const ExportSettings& settings);

}  // namespace jevrin::test
