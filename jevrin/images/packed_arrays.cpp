#include "jevrin/images/packed_arrays.hpp"

#include "jevrin/base/error.hpp"
#include "jevrin/base/memory.hpp"
#include "jevrin/base/text.hpp"

#include <fmt/format.h>
#include <zip.h>
#include <zlib.h>

#include <algorithm>
#include <functional>
#include <memory>
#include <string_view>

namespace jevrin::inline v1 {
namespace {

namespace fs = std::filesystem;

bool begins(std::span<const std::byte> bytes, std::string_view mark) {
    return bytes.size() >= mark.size() &&
           std::equal(mark.begin(), mark.end(), bytes.begin(),
                      [](char a, std::byte b) { return static_cast<std::byte>(a) == b; });
}

// Gives some of the bytes to come, fewer than asked for only at the end.
using ByteStream = std::function<std::size_t(std::span<std::byte>)>;

class GzipStream {
  public:
    explicit GzipStream(const fs::path& path) : file_(path) {
        constexpr int gzip_format = 16;
        if (inflateInit2(&stream_, MAX_WBITS + gzip_format) != Z_OK)
            throw WorkError("there is no memory to unpack with");
    }
    ~GzipStream() { inflateEnd(&stream_); }
    GzipStream(const GzipStream&) = delete;
    GzipStream& operator=(const GzipStream&) = delete;

    std::size_t read(std::span<std::byte> to) {
        std::size_t done = 0;
        while (done < to.size() && !ended_) {
            if (stream_.avail_in == 0) refill();
            const std::size_t some = std::min<std::size_t>(to.size() - done, std::size_t{1} << 30U);
            stream_.next_out = reinterpret_cast<Bytef*>(to.data() + done);
            stream_.avail_out = static_cast<uInt>(some);
            const int result = inflate(&stream_, Z_NO_FLUSH);
            done += some - stream_.avail_out;
            if (result == Z_STREAM_END) {
                // Several files behind each other are one.
                if (stream_.avail_in == 0 && at_ < file_.size()) refill();
                ended_ = stream_.avail_in == 0 || inflateReset(&stream_) != Z_OK;
            } else if (result != Z_OK && !(result == Z_BUF_ERROR && stream_.avail_in > 0)) {
                throw InputError("its gzip data are damaged or truncated");
            }
        }
        return done;
    }

  private:
    void refill() {
        const std::int64_t count = std::min<std::int64_t>(std::ssize(piece_), file_.size() - at_);
        if (count <= 0) throw InputError("its gzip data are truncated");
        file_.read(at_, std::span(piece_).first(static_cast<std::size_t>(count)));
        at_ += count;
        stream_.next_in = reinterpret_cast<Bytef*>(piece_.data());
        stream_.avail_in = static_cast<uInt>(count);
    }

    InputFile file_;
    std::int64_t at_ = 0;
    std::vector<std::byte> piece_ = std::vector<std::byte>(std::size_t{1} << 16U);
    z_stream stream_{};
    bool ended_ = false;
};

struct DiscardArchive {
    void operator()(zip_t* archive) const { zip_discard(archive); }
};
using Archive = std::unique_ptr<zip_t, DiscardArchive>;

Archive open_archive(const fs::path& path) {
    const InputFile regular(path);  // nothing else is opened
    int error = 0;
    Archive archive(zip_open(path.c_str(), ZIP_RDONLY | ZIP_CHECKCONS, &error));
    if (!archive) {
        zip_error_t description;
        zip_error_init_with_code(&description, error);
        const std::string text = zip_error_strerror(&description);
        zip_error_fini(&description);
        throw InputError(fmt::format("it is a damaged archive ({})", text));
    }
    return archive;
}

struct CloseMember {
    void operator()(zip_file_t* member) const { zip_fclose(member); }
};

class MemberStream {
  public:
    MemberStream(zip_t* archive, zip_uint64_t index) : member_(zip_fopen_index(archive, index, 0)) {
        if (!member_) throw InputError(fmt::format("it cannot be unpacked ({})", zip_strerror(archive)));
    }
    std::size_t read(std::span<std::byte> to) {
        std::size_t done = 0;
        while (done < to.size()) {
            const zip_int64_t count = zip_fread(member_.get(), to.data() + done, to.size() - done);
            if (count < 0) throw InputError("its archive is damaged or truncated");
            if (count == 0) break;
            done += static_cast<std::size_t>(count);
        }
        return done;
    }

  private:
    std::unique_ptr<zip_file_t, CloseMember> member_;
};

// A header, then as many bytes as it says and no more: an archive that would unpack to more is refused.
UnpackedArray unpack(const ByteStream& read) {
    UnpackedArray array;
    std::size_t have = 0;
    // Most headers are short; a long one is asked for again.
    for (std::size_t wanted = 4096;; wanted = largest_array_header) {
        array.bytes.resize(wanted);
        have += read(std::span(array.bytes).subspan(have));
        array.bytes.resize(have);
        try {
            array.layout = read_header(array.bytes);
            break;
        } catch (const InputError&) {
            if (have < wanted || wanted == largest_array_header) throw;
        }
    }
    const std::size_t whole = array.layout.offset + stated_bytes(array.layout);
    const auto free = static_cast<std::size_t>(std::max<std::int64_t>(0, memory_limit() - resident_memory()));
    if (whole > free)
        throw InputError(fmt::format("it unpacks to {}, and {} of memory are left; unpack it to a file",
                                     spoken_bytes(static_cast<std::int64_t>(whole)),
                                     spoken_bytes(static_cast<std::int64_t>(free))));
    if (have < whole) {
        array.bytes.resize(whole);
        have += read(std::span(array.bytes).subspan(have));
        array.bytes.resize(have);
    }
    std::byte more;
    if (have == whole) have += read({&more, 1});
    require_stated_bytes(array.layout, have);
    return array;
}

std::string without_extension(const std::string& name) {
    return name.ends_with(".npy") ? name.substr(0, name.size() - 4) : name;
}

template <typename Work>
auto with_name(const fs::path& path, Work work) -> decltype(work()) {
    try {
        return work();
    } catch (const InputError& error) {
        const std::string name = printable(path.string());
        if (std::string_view(error.what()).starts_with(name)) throw;
        throw InputError(fmt::format("{}: {}", name, error.what()));
    }
}

}  // namespace

bool is_gzip(std::span<const std::byte> beginning) {
    return begins(beginning, "\x1f\x8b");
}

bool is_archive(std::span<const std::byte> beginning) {
    return begins(beginning, "PK\x03\x04");
}

ArrayPlace find_array(const fs::path& path) {
    std::error_code error;
    for (fs::path file = path; file.has_relative_path(); file = file.parent_path())
        if (file == path ? fs::exists(file, error) : fs::is_regular_file(file, error))
            return {file, file == path ? std::string() : path.lexically_relative(file).generic_string()};
    throw InputError(fmt::format("{}: there is no such file; check the path", printable(path.string())));
}

UnpackedArray unpack_array(const ArrayPlace& place) {
    return with_name(place.member.empty() ? place.file : place.file / place.member, [&] {
        if (place.member.empty()) {
            GzipStream stream(place.file);
            return unpack([&](std::span<std::byte> to) { return stream.read(to); });
        }
        const Archive archive = open_archive(place.file);
        std::vector<std::string> names;
        for (zip_int64_t i = 0; i < zip_get_num_entries(archive.get(), 0); ++i) {
            const char* const name = zip_get_name(archive.get(), static_cast<zip_uint64_t>(i), 0);
            if (name == nullptr) continue;
            names.push_back(without_extension(name));
            if (place.member != name && place.member != names.back()) continue;
            MemberStream stream(archive.get(), static_cast<zip_uint64_t>(i));
            return unpack([&](std::span<std::byte> to) { return stream.read(to); });
        }
        throw InputError(fmt::format("there is no such array in the archive{}; it holds {}",
                                     did_you_mean(place.member, names),
                                     printable(fmt::format("{}", fmt::join(names, ", ")))));
    });
}

std::vector<ArchiveMember> list_archive(const fs::path& file) {
    return with_name(file, [&] {
        const Archive archive = open_archive(file);
        std::vector<ArchiveMember> members;
        for (zip_int64_t i = 0; i < zip_get_num_entries(archive.get(), 0); ++i) {
            const char* const name = zip_get_name(archive.get(), static_cast<zip_uint64_t>(i), 0);
            if (name == nullptr || std::string_view(name).ends_with('/')) continue;
            MemberStream stream(archive.get(), static_cast<zip_uint64_t>(i));
            std::vector<std::byte> beginning(4096);
            beginning.resize(stream.read(beginning));
            if (!is_number_array(beginning)) continue;
            members.push_back({without_extension(name), read_header(beginning)});
        }
        std::ranges::sort(members, {}, &ArchiveMember::name);
        if (members.empty())
            throw InputError("it is an archive without arrays (NPY); unpack it when it holds images");
        return members;
    });
}

}  // namespace jevrin::inline v1
