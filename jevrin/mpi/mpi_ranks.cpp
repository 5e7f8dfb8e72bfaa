// The module of MPI: what a process uses that belongs to a job. MPI-3 calls alone.
#include "jevrin/mpi/mpi_ranks.hpp"

#include "jevrin/base/error.hpp"

// The interface of C alone.
#define OMPI_SKIP_MPICXX 1
#define MPICH_SKIP_MPICXX 1
#include <mpi.h>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <list>
#include <map>
#include <mutex>
#include <string>
#include <thread>
#include <utility>
#include <vector>

namespace jevrin::inline v1 {
namespace {

// MPI counts in int.
constexpr std::size_t largest_piece = std::size_t{1} << 28;
enum Tag : int { length_tag = 1, piece_tag = 2 };

void require(int code) {
    if (code == MPI_SUCCESS) return;
    std::string text(MPI_MAX_ERROR_STRING, '\0');
    int length = 0;
    MPI_Error_string(code, text.data(), &length);
    text.resize(static_cast<std::size_t>(length));
    throw WorkError("the connection to another rank is lost: " + text);
}

// The ranks of a run. While one thread waits, others may call MPI.
class MpiLink : public ShardLink {
  public:
    MpiLink(MPI_Comm team, std::mutex& mutex) : team_(team), mutex_(mutex) {
        MPI_Comm_set_errhandler(team_, MPI_ERRORS_RETURN);
        MPI_Comm_rank(team_, &rank_);
        MPI_Comm_size(team_, &size_);
    }
    ~MpiLink() override { MPI_Comm_free(&team_); }
    int rank() const override { return rank_; }
    int size() const override { return size_; }
    void send(int to, int channel, std::span<const std::byte> bytes) override {
        in_pieces(bytes.size(), [&](std::size_t at, int count, MPI_Request* request) {
            return MPI_Isend(bytes.data() + at, count, MPI_BYTE, to, channel, team_, request);
        });
    }
    void receive(int from, int channel, std::span<std::byte> bytes) override {
        in_pieces(bytes.size(), [&](std::size_t at, int count, MPI_Request* request) {
            return MPI_Irecv(bytes.data() + at, count, MPI_BYTE, from, channel, team_, request);
        });
    }

    void give_up() override { given_up_ = true; }

  private:
    template <typename Begin>
    void in_pieces(std::size_t size, const Begin& begin) {
        for (std::size_t at = 0; at < size; at += largest_piece) {
            MPI_Request request = MPI_REQUEST_NULL;
            {
                const std::lock_guard lock(mutex_);
                require(begin(at, static_cast<int>(std::min(largest_piece, size - at)), &request));
            }
            wait(request);
        }
    }
    // Another rank is often about as far, so a wait begins with eager looks. A longer one leaves the
    // processor to the computation: a pause is an eighth of what has been waited, at most a millisecond.
    void wait(MPI_Request& request) {
        using namespace std::chrono;
        constexpr int eager_looks = 100;
        const auto begin = steady_clock::now();
        for (int look = 0;; ++look) {
            if (given_up_) throw WorkError("another rank of this run is lost");
            {
                const std::lock_guard lock(mutex_);
                int done = 0;
                require(MPI_Test(&request, &done, MPI_STATUS_IGNORE));
                if (done != 0) return;
            }
            if (look < eager_looks)
                std::this_thread::yield();
            else
                std::this_thread::sleep_for(
                    std::min(duration_cast<microseconds>(steady_clock::now() - begin) / 8 + microseconds{10},
                             microseconds{1000}));
        }
    }

    MPI_Comm team_;
    std::mutex& mutex_;
    std::atomic<bool> given_up_{false};
    int rank_ = 0;
    int size_ = 1;
};

// Calls to MPI are made by one thread at a time; none of them waits.
class MpiRanks : public Ranks {
  public:
    MpiRanks() {
        MPI_Comm_dup(MPI_COMM_WORLD, &world_);
        MPI_Comm_set_errhandler(world_, MPI_ERRORS_RETURN);
        MPI_Comm_rank(world_, &rank_);
        MPI_Comm_size(world_, &size_);
        MPI_Comm here = MPI_COMM_NULL;
        MPI_Comm_split_type(world_, MPI_COMM_TYPE_SHARED, rank_, MPI_INFO_NULL, &here);
        MPI_Comm_size(here, &on_this_machine_);
        MPI_Comm_free(&here);
    }
    ~MpiRanks() override {
        try {
            while (is_sending()) std::this_thread::sleep_for(std::chrono::milliseconds(1));
        } catch (const Error&) {
            // Nobody is there to hear it.
        }
        MPI_Comm_free(&world_);
        MPI_Finalize();
    }

    int rank() const override { return rank_; }
    int size() const override { return size_; }
    int on_this_machine() const override { return on_this_machine_; }

    void send(int to, std::string bytes) override {
        const std::lock_guard lock(mutex_);
        sending_.emplace_back(std::move(bytes));
        Sending& message = sending_.back();
        message.length = message.bytes.size();
        message.requests.emplace_back();
        require(
            MPI_Isend(&message.length, 1, MPI_UINT64_T, to, length_tag, world_, &message.requests.back()));
        for (std::size_t at = 0; at < message.bytes.size(); at += largest_piece) {
            const std::size_t count = std::min(largest_piece, message.bytes.size() - at);
            message.requests.emplace_back();
            require(MPI_Isend(message.bytes.data() + at, static_cast<int>(count), MPI_BYTE, to, piece_tag,
                              world_, &message.requests.back()));
        }
        clean_up();
    }

    // Polls, less often the longer nothing comes.
    std::optional<Bytes> receive(std::chrono::milliseconds wait) override {
        const auto end = std::chrono::steady_clock::now() + wait;
        std::chrono::microseconds pause{20};
        for (;;) {
            if (auto message = look()) return message;
            if (std::chrono::steady_clock::now() >= end) return std::nullopt;
            std::this_thread::sleep_for(pause);
            pause = std::min(2 * pause, std::chrono::microseconds{1000});
        }
    }

    std::unique_ptr<ShardLink> divide(int ranks_of_run) override {
        const std::lock_guard lock(mutex_);
        MPI_Comm team = MPI_COMM_NULL;
        require(MPI_Comm_split(world_, rank_ / ranks_of_run, rank_, &team));
        return std::make_unique<MpiLink>(team, mutex_);
    }
    void abandon() noexcept override { MPI_Abort(MPI_COMM_WORLD, 1); }

  private:
    struct Sending {
        explicit Sending(std::string text) : bytes(std::move(text)) {}
        std::string bytes;
        std::uint64_t length = 0;
        std::vector<MPI_Request> requests;
    };
    struct Receiving {
        std::string bytes;
        std::vector<MPI_Request> requests;
    };

    void clean_up() {
        std::erase_if(sending_, [](Sending& message) {
            int done = 0;
            require(MPI_Testall(static_cast<int>(message.requests.size()), message.requests.data(), &done,
                                MPI_STATUSES_IGNORE));
            return done != 0;
        });
    }

    bool is_sending() {
        const std::lock_guard lock(mutex_);
        clean_up();
        return !sending_.empty();
    }

    std::optional<Bytes> look() {
        const std::lock_guard lock(mutex_);
        clean_up();
        for (;;) {
            int there = 0;
            MPI_Status status;
            require(MPI_Iprobe(MPI_ANY_SOURCE, length_tag, world_, &there, &status));
            if (there == 0) break;
            std::uint64_t length = 0;
            require(
                MPI_Recv(&length, 1, MPI_UINT64_T, status.MPI_SOURCE, length_tag, world_, MPI_STATUS_IGNORE));
            begin(status.MPI_SOURCE, length);
        }
        // Whoever was heard last waits for the others.
        auto next = receiving_.upper_bound(last_heard_);
        for (std::size_t i = 0; i < receiving_.size(); ++i, ++next) {
            if (next == receiving_.end()) next = receiving_.begin();
            auto& [from, messages] = *next;
            if (messages.empty()) continue;
            Receiving& first = messages.front();
            int done = 0;
            require(MPI_Testall(static_cast<int>(first.requests.size()), first.requests.data(), &done,
                                MPI_STATUSES_IGNORE));
            if (done == 0) continue;
            Bytes message{from, std::move(first.bytes)};
            messages.pop_front();
            last_heard_ = from;
            return message;
        }
        return std::nullopt;
    }

    void begin(int from, std::uint64_t length) {
        Receiving& message = receiving_[from].emplace_back();
        message.bytes.resize(length);
        for (std::size_t at = 0; at < length; at += largest_piece) {
            message.requests.emplace_back();
            require(MPI_Irecv(message.bytes.data() + at,
                              static_cast<int>(std::min(largest_piece, length - at)), MPI_BYTE, from,
                              piece_tag, world_, &message.requests.back()));
        }
    }

    MPI_Comm world_ = MPI_COMM_NULL;
    int rank_ = 0;
    int size_ = 1;
    int on_this_machine_ = 1;
    std::mutex mutex_;
    std::list<Sending> sending_;
    std::map<int, std::list<Receiving>> receiving_;
    int last_heard_ = -1;
};

}  // namespace
}  // namespace jevrin::inline v1

extern "C" __attribute__((visibility("default"))) jevrin::Ranks* jevrin_join_mpi_job_1() {
    int provided = MPI_THREAD_SINGLE;
    if (MPI_Init_thread(nullptr, nullptr, MPI_THREAD_SERIALIZED, &provided) != MPI_SUCCESS) return nullptr;
    if (provided < MPI_THREAD_SERIALIZED) return nullptr;
    return new jevrin::MpiRanks();
}
