#include "support/support.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/base/folder_watch.hpp"
#include "jevrin/base/hash.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/parallel.hpp"
#include "jevrin/base/place_lock.hpp"
#include "jevrin/base/processor.hpp"
#include "jevrin/base/random.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <fstream>
#include <numbers>
#include <numeric>
#include <set>
#include <sstream>
#include <stdexcept>
#include <thread>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

TEST(Random, DrawsDependOnTheirKeyAndNothingElse) {
    const RandomKey key{.seed = 7, .purpose = Purpose::order, .epoch = 3, .item = 5};
    RandomStream first(key);
    RandomStream second(key);
    for (int i = 0; i < 10; ++i) EXPECT_EQ(first.bits(), second.bits());
    std::set<std::uint64_t> different;
    for (const RandomKey other :
         {key, RandomKey{8, Purpose::order, 3, 5}, RandomKey{7, Purpose::weights, 3, 5},
          RandomKey{7, Purpose::order, 4, 5}, RandomKey{7, Purpose::order, 3, 6},
          RandomKey{7 + (std::uint64_t{1} << 32), Purpose::order, 3, 5},
          RandomKey{7, Purpose::order, 3, 5 + (std::uint64_t{1} << 32)}})
        different.insert(RandomStream(other).bits64());
    EXPECT_EQ(different.size(), 7U);
}

TEST(Random, PhiloxGivesThePublishedNumbers) {
    // Salmon et al. 2011, known answers of Philox 4x32-10: counter and key all zero. Purpose 0 leaves the key
    // zero.
    RandomStream stream({0, static_cast<Purpose>(0), 0, 0});
    EXPECT_EQ(stream.bits(), 0x6627E8D5U);
    EXPECT_EQ(stream.bits(), 0xE169C58DU);
    EXPECT_EQ(stream.bits(), 0xBC57AC4CU);
    EXPECT_EQ(stream.bits(), 0x9B00DBD8U);
}

// Every kind of draw from the published numbers, so that a seed stays what it was.
TEST(Random, DrawsFollowFromThePublishedNumbers) {
    const auto fresh = [] { return RandomStream({0, static_cast<Purpose>(0), 0, 0}); };
    EXPECT_EQ(fresh().bits64(), 0x6627E8D5E169C58DU);
    EXPECT_EQ(fresh().uniform(), 0x6627E8 * 0x1.0p-24);
    EXPECT_EQ(fresh().uniform(-1.0, 3.0), -1.0 + 4.0 * (0x6627E8 * 0x1.0p-24));
    EXPECT_EQ(fresh().below(1000), 0x6627E8D5LL * 1000 >> 32);
    const double radius = std::sqrt(-2.0 * std::log(1.0 - 0x6627E8 * 0x1.0p-24));
    EXPECT_DOUBLE_EQ(fresh().normal(), radius * std::cos(2.0 * std::numbers::pi * (0xE169C5 * 0x1.0p-24)));
    // A permutation by the draw of each item.
    std::vector<std::pair<std::uint64_t, std::int64_t>> drawn;
    for (std::int64_t i = 0; i < 50; ++i)
        drawn.emplace_back(RandomStream({3, Purpose::order, 2, static_cast<std::uint64_t>(i)}).bits64(), i);
    std::sort(drawn.begin(), drawn.end());
    const std::vector<std::int64_t> order = random_order(50, 3, Purpose::order, 2);
    for (std::size_t i = 0; i < order.size(); ++i) EXPECT_EQ(order[i], drawn[i].second);
}

TEST(Random, MomentsAreThoseOfTheDistributions) {
    double uniform = 0;
    double normal = 0;
    double squares = 0;
    constexpr int count = 40'000;
    RandomStream stream({1, Purpose::sample, 0, 0});
    for (int i = 0; i < count; ++i) {
        uniform += stream.uniform() / count;
        const double z = stream.normal();
        normal += z / count;
        squares += z * z / count;
        EXPECT_LT(stream.below(7), 7U);
    }
    EXPECT_NEAR(uniform, 0.5, 0.01);
    EXPECT_NEAR(normal, 0.0, 0.02);
    EXPECT_NEAR(squares, 1.0, 0.03);
}

TEST(Random, AnOrderIsAPermutationThatChangesWithTheEpoch) {
    const auto order = random_order(100, 1, Purpose::order, 1);
    std::set<std::int64_t> seen(order.begin(), order.end());
    EXPECT_EQ(seen.size(), 100U);
    EXPECT_EQ(*seen.rbegin(), 99);
    EXPECT_EQ(order, random_order(100, 1, Purpose::order, 1));
    EXPECT_NE(order, random_order(100, 1, Purpose::order, 2));
}

TEST(Parallel, EveryChunkRunsOnceForAnyNumberOfThreads) {
    for (const int count : {1, 2, 3, 5}) {
        set_threads(count);
        std::vector<std::atomic<int>> runs(1000);
        parallel_for(1000, [&](std::int64_t i) { ++runs[static_cast<std::size_t>(i)]; });
        for (const auto& r : runs) EXPECT_EQ(r, 1);
    }
    set_threads(2);
}

TEST(Parallel, TheExceptionOfTheFirstFailingChunkReachesTheCaller) {
    for (const int count : {1, 2, 3}) {
        set_threads(count);
        EXPECT_EQ(message_of<InputError>([] {
                      parallel_for(50, [](std::int64_t i) {
                          if (i >= 17) throw InputError(fmt::format("chunk {}", i));
                      });
                  }),
                  "chunk 17");
    }
    set_threads(2);
}

TEST(Parallel, AGroupCountsThoseAtWorkAndNoneAfterwards) {
    LoopGroup group;
    {
        const SerialLoops loops(&group);
        EXPECT_EQ(group.working(), 1);
        std::thread([&] {
            const SerialLoops others(&group);
            EXPECT_EQ(group.working(), 2);
            {
                const WaitingLoops waiting;
                EXPECT_EQ(group.working(), 1);
            }
            EXPECT_EQ(group.working(), 2);
        }).join();
        EXPECT_EQ(group.working(), 1);
    }
    EXPECT_EQ(group.working(), 0);
    EXPECT_FALSE(SerialLoops::here());
}

TEST(Parallel, ChunkRangesCoverEverythingOnce) {
    std::int64_t next = 0;
    for (std::int64_t chunk = 0; chunk < 7; ++chunk) {
        const IndexRange range = chunk_range(23, 7, chunk);
        EXPECT_EQ(range.begin, next);
        next = range.end;
    }
    EXPECT_EQ(next, 23);
}

TEST(FolderWatch, TellsFilesOnceTheyAreWritten) {
    const TemporaryDirectory directory;
    write_file(directory / "before.png", std::string("x"));
    FolderWatch watch(directory.path());
    EXPECT_TRUE(watch.next(0.01).empty());
    std::ofstream open(directory / "slow.png");
    open << "half" << std::flush;
    EXPECT_TRUE(watch.next(0.05).empty());
    open.close();
    std::filesystem::rename(directory / "before.png", directory / "moved.png");
    std::ofstream(directory / ".hidden.png") << "x";
    EXPECT_EQ(watch.next(1.0),
              (std::vector<std::filesystem::path>{directory / "slow.png", directory / "moved.png"}));
    EXPECT_THAT(message_of<InputError>([&] { FolderWatch none(directory / "none"); }),
                HasSubstr("no such folder"));
}

TEST(Files, AWriteReplacesTheWholeFile) {
    const TemporaryDirectory directory;
    write_file(directory / "a", std::string("first"));
    write_file(directory / "a", std::string("second"));
    EXPECT_EQ(read_text(directory / "a"), "second");
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(directory.path()), {}), 1);
}

TEST(Files, AFailedWriteLeavesTheOldContentAndNothingElse) {
    const TemporaryDirectory directory;
    write_file(directory / "a", std::string("old"));
    std::signal(SIGXFSZ, SIG_IGN);
    rlimit before{};
    ::getrlimit(RLIMIT_FSIZE, &before);
    const rlimit small{1000, before.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &small);
    const std::string message =
        message_of<WorkError>([&] { write_file(directory / "a", std::string(5000, 'x')); });
    ::setrlimit(RLIMIT_FSIZE, &before);
    EXPECT_THAT(message, HasSubstr((directory / "a").string()));
    EXPECT_EQ(read_text(directory / "a"), "old");
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(directory.path()), {}), 1);
}

TEST(Files, StandardOutputIsKnownByWhatItIs) {
    const TemporaryDirectory directory;
    write_file(directory / "other", std::string("before"));
    std::fflush(stdout);
    const int saved = ::dup(STDOUT_FILENO);
    const int out = ::open((directory / "out").c_str(), O_WRONLY | O_CREAT, 0600);
    ::dup2(out, STDOUT_FILENO);
    write_file(directory / "other", std::string("a file"));
    write_file("/dev/stdout", std::string("printed"));
    write_file("-", std::string(" twice"));
    ::dup2(saved, STDOUT_FILENO);
    ::close(saved);
    ::close(out);
    EXPECT_EQ(read_text(directory / "other"), "a file");
    EXPECT_EQ(read_text(directory / "out"), "printed twice");
}

TEST(Files, ReadingSaysWhatIsWrong) {
    const TemporaryDirectory directory;
    EXPECT_THAT(message_of<InputError>([&] { read_file(directory / "none"); }), HasSubstr("No such file"));
    EXPECT_THAT(message_of<InputError>([&] { read_file(directory.path()); }),
                HasSubstr("not a regular file"));
}

TEST(Files, APlaceIsHeldOnceAtATime) {
    const TemporaryDirectory directory;
    const auto file = directory / "claims";
    EXPECT_FALSE(PlaceLock::is_held(file, 7));
    {
        const auto lock = PlaceLock::try_hold(file, 7);
        ASSERT_TRUE(lock);
        EXPECT_FALSE(PlaceLock::try_hold(file, 7));
        EXPECT_TRUE(PlaceLock::is_held(file, 7));
        EXPECT_FALSE(PlaceLock::is_held(file, 8));
        EXPECT_TRUE(PlaceLock::try_hold(file, 8));
    }
    EXPECT_FALSE(PlaceLock::is_held(file, 7));
    EXPECT_TRUE(PlaceLock::try_hold(file, 7));
    EXPECT_THROW(PlaceLock::try_hold(directory / "no" / "claims", 1), WorkError);
}

TEST(Files, PiecesAreWrittenOneAfterTheOther) {
    const TemporaryDirectory directory;
    const std::string a = "first ";
    const std::string b = "second";
    const std::vector<std::span<const std::byte>> pieces = {std::as_bytes(std::span(a)),
                                                            std::as_bytes(std::span(b))};
    write_file(directory / "whole", pieces);
    EXPECT_EQ(read_text(directory / "whole"), "first second");
    ContentHasher hasher;
    for (const auto piece : pieces) hasher.add(piece);
    EXPECT_EQ(hasher.hash().text(), content_hash(std::string_view("first second")));
}

TEST(Hash, ContentDecides) {
    EXPECT_EQ(content_hash(std::string_view("abc")), content_hash(std::string_view("abc")));
    EXPECT_NE(content_hash(std::string_view("abc")), content_hash(std::string_view("abd")));
    EXPECT_EQ(content_hash(std::string_view("")).size(), 32U);
}

TEST(Memory, TheLimitIsTheMachinesUntilItIsSet) {
    const std::int64_t usual = memory_limit();
    EXPECT_GT(usual, resident_memory());
    set_memory_limit(12'345);
    EXPECT_EQ(memory_limit(), 12'345);
    set_memory_limit(0);
    EXPECT_EQ(memory_limit(), usual);
}

TEST(Processor, IsCalledAsTheSystemCallsIt) {
    std::string model;
    std::ifstream file("/proc/cpuinfo");
    for (std::string line; model.empty() && std::getline(file, line);)
        if (line.starts_with("model name")) model = line.substr(line.find(':') + 2);
    if (model.empty()) GTEST_SKIP() << "this system does not name its processor";
    EXPECT_TRUE(processor().name.starts_with(model + ", ")) << processor().name;
    EXPECT_EQ(processor().cores, static_cast<int>(std::thread::hardware_concurrency()));
}

TEST(Memory, WhatTheProcessHoldsIsSeen) {
    const std::int64_t before = resident_memory();
    const std::vector<char> block(64 << 20, 1);
    EXPECT_GE(resident_memory(), before + (60 << 20));
    EXPECT_GE(peak_memory(), before + (60 << 20));
    EXPECT_EQ(block.back(), 1);
}

TEST(BackgroundTask, DoesItsWorkBesideLoopsAndGivesBackItsErrors) {
    for (const int count : {1, 2}) {
        set_threads(count);
        std::vector<int> squares(1000);
        BackgroundTask task;
        task.wait();  // nothing to wait for
        for (int round = 0; round < 20; ++round) {
            task.run([&, round] {
                parallel_for(10, [&](std::int64_t chunk) {
                    for (std::size_t i = 0; i < 100; ++i)
                        squares[static_cast<std::size_t>(chunk) * 100 + i] = round * round;
                });
            });
            std::vector<int> own(8);
            parallel_for(8, [&](std::int64_t chunk) { own[static_cast<std::size_t>(chunk)] = 1; });
            task.wait();
            EXPECT_THAT(squares, testing::Each(round * round));
            EXPECT_THAT(own, testing::Each(1));
        }
        task.run([] { throw InputError("in the background"); });
        EXPECT_THROW(task.wait(), InputError);
        task.wait();  // told once
    }
    set_threads(2);
}

}  // namespace
}  // namespace jevrin
