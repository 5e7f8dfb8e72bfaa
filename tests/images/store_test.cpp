// Fitted images on disk: kept once, checked whenever they are taken out, never in the way. Batches ahead.
#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/images/batches.hpp"
#include "jevrin/images/image_store.hpp"

#include <fmt/format.h>
#include <sys/resource.h>

#include <atomic>
#include <csignal>

namespace jevrin {
namespace {

using test::TemporaryDirectory;
using test::write_small_set;

struct StoreTest : testing::Test {
    TemporaryDirectory directory;
    Fitting fitting{.size = 12, .fit = Fit::stretch};
    ImageSet set;
    void SetUp() override {
        write_small_set(directory / "set", {"a", "b"}, 6);
        set = read_image_set({.from = directory / "set"});
    }
    std::filesystem::path stores() const { return directory / "stores"; }
    std::filesystem::path rows_file(const Fitting& of) const {
        return RowStore::rows_file(ImageStore::settings_of(stores(), of, 0));
    }

    // The bytes of every image through a store, and how many of them had to be read from their files.
    std::vector<std::uint8_t> all_through(ImageStore* store, int* read = nullptr) const {
        std::vector<std::uint8_t> bytes;
        std::vector<std::uint8_t> pixels(static_cast<std::size_t>(fitting.values()));
        if (read != nullptr)
            for (const Item& item : set.items) *read += store->read(item.content, pixels) ? 0 : 1;
        const PreparedImages images(set, fitting, store);
        for (std::size_t i = 0; i < set.items.size(); ++i) {
            images.read_pixels(i, pixels);
            bytes.insert(bytes.end(), pixels.begin(), pixels.end());
        }
        return bytes;
    }
};

TEST_F(StoreTest, KeepsEachPictureOnceAndGivesTheSameBytes) {
    const auto without = all_through(nullptr);
    int read = 0;
    {
        ImageStore store(stores(), fitting, 12);
        EXPECT_EQ(all_through(&store, &read), without);
        EXPECT_EQ(read, 12);
        EXPECT_EQ(store.size(), 12);
    }
    const auto bytes = std::filesystem::file_size(rows_file(fitting));
    EXPECT_EQ(bytes, 12U * 12U * 12U * 3U);
    ImageStore again(stores(), fitting, 12);
    read = 0;
    EXPECT_EQ(all_through(&again, &read), without);
    EXPECT_EQ(read, 0);
    EXPECT_EQ(std::filesystem::file_size(rows_file(fitting)), bytes);
    // Another fitting is another store.
    Fitting other = fitting;
    other.padding = FitPadding::mean;
    EXPECT_NE(rows_file(other), rows_file(fitting));
}

TEST_F(StoreTest, DamageCostsNothingButTime) {
    const auto without = all_through(nullptr);
    const auto images = rows_file(fitting);
    const auto index = RowStore::index_file(ImageStore::settings_of(stores(), fitting, 0));
    const auto fill = [&] {
        std::filesystem::remove_all(stores());
        ImageStore store(stores(), fitting, 12);
        all_through(&store);
    };
    const auto read_after = [&](const std::function<void()>& harm) {
        fill();
        harm();
        ImageStore store(stores(), fitting, 24);
        int read = 0;
        EXPECT_EQ(all_through(&store, &read), without);
        ImageStore* const whole = &store;
        EXPECT_EQ(all_through(whole), without);
        return read;
    };
    EXPECT_EQ(read_after([] {}), 0);
    const auto change = [](const std::filesystem::path& file, std::size_t at) {
        std::string text = read_text(file);
        text.at(at) ^= 1;
        write_file(file, text);
    };
    EXPECT_EQ(read_after([&] { change(images, 500); }), 1);
    EXPECT_EQ(read_after([&] { change(index, 5); }), 12);  // another version
    EXPECT_EQ(read_after([&] { std::filesystem::resize_file(images, 1000); }),
              10);  // two whole images left
    EXPECT_EQ(read_after([&] { std::filesystem::remove(images); }), 12);
    EXPECT_EQ(read_after([&] { std::filesystem::remove(index); }), 12);
    EXPECT_EQ(read_after([&] { write_file(index, std::string("nonsense")); }), 12);
}

TEST_F(StoreTest, DeletingItWhileItIsUsedIsSafe) {
    const auto without = all_through(nullptr);
    ImageStore store(stores(), fitting, 12);
    all_through(&store);
    std::filesystem::remove_all(stores());
    EXPECT_EQ(all_through(&store), without);
}

TEST_F(StoreTest, ASecondWriterKeepsForItselfAlone) {
    const auto without = all_through(nullptr);
    ImageStore first(stores(), fitting, 12);
    ImageStore second(stores(), fitting, 12);
    EXPECT_TRUE(first.accepts());
    EXPECT_FALSE(second.accepts());
    EXPECT_EQ(all_through(&second), without);
    EXPECT_EQ(second.size(), 12);  // in a temporary file
    EXPECT_EQ(first.size(), 0);
    all_through(&first);
    EXPECT_EQ(ImageStore(stores(), fitting, 0).size(), 12);
}

TEST_F(StoreTest, AFullDiskOnlyEndsTheKeeping) {
    const auto without = all_through(nullptr);
    std::signal(SIGXFSZ, SIG_IGN);
    rlimit before{};
    ::getrlimit(RLIMIT_FSIZE, &before);
    const rlimit small{1000, before.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &small);
    {
        ImageStore store(stores(), fitting, 12);
        EXPECT_EQ(all_through(&store), without);
        EXPECT_FALSE(store.accepts());
        EXPECT_EQ(store.size(), 4);  // two, and two in a temporary file
    }
    EXPECT_EQ(ImageStore(stores(), fitting, 0).size(), 2);
    ::setrlimit(RLIMIT_FSIZE, &before);
    ImageStore store(stores(), fitting, 12);
    EXPECT_EQ(all_through(&store), without);
    EXPECT_EQ(store.size(), 12);
}

TEST_F(StoreTest, WithoutADirectoryNothingStays) {
    const auto without = all_through(nullptr);
    ImageStore store(std::nullopt, fitting, 12);
    EXPECT_EQ(all_through(&store), without);
    EXPECT_EQ(store.size(), 12);
}

// --- batches ---

struct QueueTest : StoreTest {
    std::vector<std::size_t> labels;
    const ScalingTable scaling{Scaling{}, 3};
    void SetUp() override {
        StoreTest::SetUp();
        for (const Item& item : set.items) labels.push_back(item.label);
    }
    struct Epoch {
        std::vector<float> images;
        std::vector<std::int64_t> items;
        std::vector<Target> targets;
    };
    Epoch epoch(const PreparedImages& images, const BatchSettings& settings) const {
        std::vector<std::int64_t> order = {11, 3, 5, 0, 7, 2, 9, 1, 10, 4, 6};
        BatchQueue queue(images, scaling, settings, order, labels, {});
        Epoch result;
        while (const Batch* batch = queue.next()) {
            result.images.insert(result.images.end(), batch->images.begin(), batch->images.end());
            result.items.insert(result.items.end(), batch->items.begin(), batch->items.end());
            result.targets.insert(result.targets.end(), batch->targets.begin(), batch->targets.end());
        }
        EXPECT_EQ(queue.next(), nullptr);
        return result;
    }
};

TEST_F(QueueTest, GivesTheEpochInOrderWhateverTheThreadsAndTheStore) {
    ImageStore store(stores(), fitting, 12);
    const PreparedImages kept(set, fitting, &store);
    const PreparedImages fresh(set, fitting);
    for (const char* strength : {"none", "strong"})
        for (const MixingForm form : {MixingForm::none, MixingForm::mixup, MixingForm::cutmix}) {
            BatchSettings settings{
                .size = 3, .augmentation = augmentation_of_strength(strength), .key = {7, 2}};
            settings.augmentation.mixing.form = form;
            const Epoch first = epoch(kept, settings);
            EXPECT_EQ(first.items.size(), 11U);
            EXPECT_EQ(first.targets[0].label, labels[11]);
            for (const int count : {1, 3}) {
                set_threads(count);
                EXPECT_EQ(epoch(fresh, settings).images, first.images);
            }
            set_threads(2);
            // The cut into batches changes no image.
            settings.size = 4;
            EXPECT_EQ(epoch(kept, settings).images, first.images);
        }
}

TEST_F(QueueTest, MixedPicturesAreWhatTheirTargetsSay) {
    const PreparedImages images(set, fitting);
    const Epoch plain = epoch(images, {.size = 11});
    const Epoch mixed =
        epoch(images, {.size = 11, .augmentation = {.mixing = {MixingForm::mixup, 1.0}}, .key = {1, 1}});
    const auto values = static_cast<std::size_t>(fitting.values());
    int really_mixed = 0;
    for (std::size_t n = 0; n < 11; ++n) {
        const Target& target = mixed.targets[n];
        // Some image of the other label, in the stated share, gives the mixture.
        bool found = false;
        for (std::size_t m = 0; m < 11 && !found; ++m) {
            if (plain.targets[m].label != target.other) continue;
            double worst = 0;
            for (std::size_t i = 0; i < values; ++i)
                worst = std::max(worst, std::abs(target.share * plain.images[n * values + i] +
                                                 (1 - target.share) * plain.images[m * values + i] -
                                                 mixed.images[n * values + i]));
            found = worst < 0.0025;  // half a level
        }
        EXPECT_TRUE(found) << n;
        really_mixed += target.share < 0.95 && target.share > 0.05 ? 1 : 0;
    }
    EXPECT_GT(really_mixed, 5);
}

TEST_F(QueueTest, AnErrorAheadReachesWhoAsks) {
    const PreparedImages images(set, fitting);
    std::filesystem::remove(item_file(set, set.items[7]));
    BatchQueue queue(images, scaling, {.size = 2}, {1, 2, 3, 4, 7, 5}, labels, {});
    EXPECT_NE(queue.next(), nullptr);
    EXPECT_NE(queue.next(), nullptr);
    EXPECT_THROW(queue.next(), InputError);
    // One that is given up early waits for work in progress.
    BatchQueue early(images, scaling, {.size = 2}, {1, 2, 3, 4, 7, 5}, labels, {});
}

}  // namespace
}  // namespace jevrin
