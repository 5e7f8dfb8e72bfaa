// Writing and reading files: whole or not at all, to whatever a path leads to, and only regular ones are
// read.
#include "jevrin/base/files.hpp"

#include "support/support.hpp"

#include "jevrin/base/error.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <thread>

namespace jevrin {
namespace {

using test::message_of;
using test::TemporaryDirectory;
using testing::HasSubstr;

namespace fs = std::filesystem;

std::vector<std::string> names_in(const fs::path& directory) {
    std::vector<std::string> names;
    for (const auto& entry : fs::directory_iterator(directory))
        names.push_back(entry.path().filename().string());
    std::sort(names.begin(), names.end());
    return names;
}

struct stat status_of(const fs::path& file) {
    struct stat status {};
    EXPECT_EQ(::stat(file.c_str(), &status), 0);
    return status;
}

TEST(Writing, FollowsLinksAndKeepsModeAndOwner) {
    const TemporaryDirectory directory;
    fs::create_directory(directory / "far");
    write_file(directory / "far" / "real", "old");
    fs::create_symlink("far/real", directory / "link");
    fs::create_symlink("link", directory / "second");
    ASSERT_EQ(::chmod((directory / "far" / "real").c_str(), 0640), 0);
    const bool root = ::geteuid() == 0;
    if (root) {
        ASSERT_EQ(::chown((directory / "far" / "real").c_str(), 65534, 65534), 0);
    }
    write_file(directory / "second", "new");
    EXPECT_TRUE(fs::is_symlink(directory / "second"));
    EXPECT_TRUE(fs::is_symlink(directory / "link"));
    EXPECT_EQ(read_text(directory / "far" / "real"), "new");
    EXPECT_EQ(status_of(directory / "far" / "real").st_mode & 07777, 0640U);
    if (root) {
        EXPECT_EQ(status_of(directory / "far" / "real").st_uid, 65534U);
    }
    // A link to nothing makes the file that it names.
    fs::create_symlink("far/fresh", directory / "loose");
    write_file(directory / "loose", "made");
    EXPECT_EQ(read_text(directory / "far" / "fresh"), "made");
    EXPECT_EQ(names_in(directory / "far"), (std::vector<std::string>{"fresh", "real"}));
}

TEST(Writing, GoesStraightToWhatIsNoRegularFile) {
    const TemporaryDirectory directory;
    write_file("/dev/null", "lost");
    EXPECT_TRUE(fs::is_character_file("/dev/null"));
    const fs::path fifo = directory / "fifo";
    ASSERT_EQ(::mkfifo(fifo.c_str(), 0600), 0);
    EXPECT_TRUE(is_stream(fifo));
    std::string received(7, '\0');
    std::thread reader([&] {
        const int descriptor = ::open(fifo.c_str(), O_RDONLY);
        std::size_t got = 0;
        while (got < received.size()) {
            const ssize_t some = ::read(descriptor, received.data() + got, received.size() - got);
            if (some <= 0) break;
            got += static_cast<std::size_t>(some);
        }
        ::close(descriptor);
    });
    write_file(fifo, "through");
    reader.join();
    EXPECT_EQ(received, "through");
    EXPECT_EQ(names_in(directory.path()), std::vector<std::string>{"fifo"});
    EXPECT_THAT(message_of<WorkError>([] { write_file("/dev/full", "x"); }), HasSubstr("No space left"));
    EXPECT_THAT(message_of<WorkError>([&] { write_file(directory.path(), "x"); }), HasSubstr("cannot write"));
    EXPECT_TRUE(is_stream("-"));
    EXPECT_FALSE(is_stream(directory / "none"));
}

TEST(Writing, LeftoversOfTheDeadAreRemovedAndOthersStay) {
    const TemporaryDirectory directory;
    const auto put = [&](const std::string& name) { std::ofstream(directory / name) << "x"; };
    std::vector<std::string> kept = {".jevrin-locked.part", "a.part", ".hidden"};
    for (const std::string& name : kept) put(name);
    put(".jevrin-0123456789abcdef.part");
    fs::create_directories(directory / ".jevrin-fedcba9876543210.part" / "x");
    // A link is neither followed nor removed.
    fs::create_symlink("a.part", directory / ".jevrin-link.part");
    const int held = ::open((directory / ".jevrin-locked.part").c_str(), O_RDONLY);
    ASSERT_EQ(::flock(held, LOCK_EX), 0);
    remove_leftovers(directory.path());
    ::close(held);
    kept.emplace_back(".jevrin-link.part");
    std::sort(kept.begin(), kept.end());
    EXPECT_EQ(names_in(directory.path()), kept);
    // What a temporary name meets is never written through.
    EXPECT_EQ(read_text(directory / "a.part"), "x");
}

TEST(Reading, RefusesWhatIsNoFileAndWhatIsTooLarge) {
    const TemporaryDirectory directory;
    ASSERT_EQ(::mkfifo((directory / "fifo").c_str(), 0600), 0);
    for (const fs::path& path :
         {directory / "fifo", fs::path("/dev/zero"), fs::path("/dev/tty"), directory.path()})
        EXPECT_THAT(message_of<InputError>([&] { read_file(path); }), HasSubstr("not a regular file"))
            << path;
    const fs::path sparse = directory / "sparse";
    std::ofstream(sparse) << "x";
    fs::resize_file(sparse, std::uintmax_t{100} << 30);
    EXPECT_THAT(message_of<InputError>([&] { read_file(sparse, std::int64_t{1} << 20); }),
                testing::AllOf(HasSubstr("107.37 GB"), HasSubstr("at most 1.0 MB")));
    // One that becomes shorter while it is open is an error of the read.
    write_file(directory / "whole", std::string(10000, 'x'));
    const InputFile open(directory / "whole");
    fs::resize_file(directory / "whole", 10);
    std::vector<std::byte> bytes(10000);
    EXPECT_THAT(message_of<InputError>([&] { open.read(0, bytes); }), HasSubstr("ends too early"));
}

}  // namespace
}  // namespace jevrin
