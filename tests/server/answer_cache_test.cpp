// Answers that are kept: computed once, gone when they failed, bounded in memory.
#include "jevrin/server/answer_cache.hpp"

#include "support/support.hpp"

#include <atomic>
#include <stdexcept>
#include <thread>
#include <vector>

namespace jevrin {
namespace {

TEST(AnswerCache, ComputesEachAnswerOnceForARevision) {
    AnswerCache cache;
    int computed = 0;
    const auto ask = [&](const std::string& question, std::int64_t revision) {
        return cache.get(question, revision, [&] { return fmt::format("{} {}", question, ++computed); });
    };
    EXPECT_EQ(ask("a", 1), "a 1");
    EXPECT_EQ(ask("a", 1), "a 1");
    EXPECT_EQ(ask("b", 1), "b 2");
    EXPECT_EQ(ask("a", 2), "a 3");
    EXPECT_EQ(ask("a", 1), "a 1");
}

TEST(AnswerCache, KeepsNoAnswerThatFailed) {
    AnswerCache cache;
    EXPECT_THROW(cache.get("a", 1, []() -> std::string { throw std::runtime_error("not yet"); }),
                 std::runtime_error);
    EXPECT_EQ(cache.get("b", 1, [] { return "other"; }), "other");
    EXPECT_EQ(cache.get("a", 1, [] { return "now"; }), "now");
    EXPECT_EQ(cache.get("b", 1, [] { return "anew"; }), "other");
}

TEST(AnswerCache, ForgetsWhatWasNotAskedForLongest) {
    AnswerCache cache;
    int computed = 0;
    const auto ask = [&](const std::string& question) {
        return cache.get(question, 1, [&] {
            ++computed;
            return std::string(std::size_t{20} << 20, question[0]);
        });
    };
    for (const char* question : {"a", "b", "c", "a"}) EXPECT_EQ(ask(question).front(), question[0]);
    EXPECT_EQ(computed, 3);
    ask("d");  // 80 MB of 64: b goes
    for (const char* question : {"a", "c", "d"}) ask(question);
    EXPECT_EQ(computed, 4);
    ask("b");
    EXPECT_EQ(computed, 5);
    // One that is larger than all room is still given.
    EXPECT_EQ(cache.get("huge", 1, [] { return std::string(std::size_t{70} << 20, 'h'); }).size(),
              std::size_t{70} << 20);
    ask("b");
    EXPECT_EQ(computed, 6);
}

TEST(AnswerCache, WhoAsksMeanwhileWaitsForTheSameAnswer) {
    AnswerCache cache;
    std::atomic<int> computed{0};
    std::atomic<int> right{0};
    std::vector<std::thread> askers;
    for (int k = 0; k < 8; ++k)
        askers.emplace_back([&] {
            const std::string answer = cache.get("a", 1, [&] {
                std::this_thread::sleep_for(std::chrono::milliseconds(50));
                return std::to_string(++computed);
            });
            right += answer == "1" ? 1 : 0;
        });
    for (std::thread& asker : askers) asker.join();
    EXPECT_EQ(computed, 1);
    EXPECT_EQ(right, 8);
}

}  // namespace
}  // namespace jevrin
