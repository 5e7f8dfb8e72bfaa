// A ledger that a service takes epochs into, with a key, and images of the demo for a model in service.
#pragma once

#include "embedded.hpp"
#include "glaze.hpp"
#include "large_ledger.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/base/json.hpp"
#include "jevrin/ledger/ledger.hpp"
#include "jevrin/server/service_store.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <filesystem>
#include <string>
#include <vector>

namespace jevrin::bench {

// Removed at the end: 50 classes, 650 validation items; the demo's backbone, a classifier of surfaces, in
// service.
class ServiceGround {
  public:
    ServiceGround() {
        std::filesystem::create_directories(directory_);
        make_large_ledger(directory_, {.candidates = 1, .seeds = 1, .epochs = 2, .classes = 50});
        const Ledger ledger = Ledger::open(directory_);
        const auto split = ledger.split_with_fold(ledger.study().id, 0);
        split_ = ledger.split_hash(split);
        items_ = ledger.count_items(split, Part::validation);
        write_file(model(), demo::backbone_model());
        ServiceStore store(directory_);
        store.publish("surfaces", model(), "demo");
        key_ = store.add_key({.name = "bench", .may = {Right::runs, Right::classify}});
    }
    ~ServiceGround() { std::filesystem::remove_all(directory_); }
    ServiceGround(const ServiceGround&) = delete;
    ServiceGround& operator=(const ServiceGround&) = delete;

    const std::filesystem::path& directory() const { return directory_; }
    const std::string& key() const { return key_; }
    std::filesystem::path model() const { return directory_ / "surfaces.onnx"; }
    std::string run_text(const std::string& candidate, int seed) const {
        return json_text(
            {{"split", split_}, {"candidate", candidate}, {"regime", "scratch"}, {"seed", seed}});
    }
    // Two thirds of the items are right.
    std::string epoch_text(int epoch) const {
        std::vector<std::int64_t> predicted;
        for (std::int64_t i = 0; i < items_; ++i)
            predicted.push_back((i * 50 / items_ + (i % 3 == 0 ? i + epoch : 0)) % 50);
        return json_text({{"training_loss", 1.0 / epoch},
                          {"validation_loss", 1.1 / epoch},
                          {"learning_rate", 0.1},
                          {"seconds", 12.5},
                          {"predicted", predicted}});
    }

  private:
    std::filesystem::path directory_ =
        std::filesystem::temp_directory_path() / fmt::format("jevrin-service-{}", ::getpid());
    std::string split_;
    std::int64_t items_ = 0;
    std::string key_;
};

// Files of so many tiles of the demo.
inline std::vector<std::string> tile_files(std::size_t count) {
    const std::vector<demo::Tile> tiles = demo::plan_tiles(demo::default_seed);
    std::vector<std::string> files;
    for (std::size_t i = 0; i < count; ++i) {
        const std::vector<std::byte> bytes = demo::draw_tile(tiles[i % tiles.size()], demo::default_seed);
        files.emplace_back(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    }
    return files;
}

}  // namespace jevrin::bench
