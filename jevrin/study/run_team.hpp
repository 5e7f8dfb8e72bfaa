// The threads that train runs at the same time, and the one that waits for them and tells what they do.
//
//     RunTeam team(2, stop_requested);
//     team.carry_out([&](std::size_t member) { ... team.tell([=] { ... }); ... });
#pragma once

#include "jevrin/base/threads.hpp"

#include <condition_variable>
#include <cstddef>
#include <deque>
#include <exception>
#include <functional>
#include <mutex>

namespace jevrin::inline v1 {

class RunTeam {
  public:
    // stop_requested may be empty; it is asked by the thread that calls carry_out().
    // meanwhile, unless empty, is called by that thread again and again while it waits, and returns whether
    // there is something to wait for besides the members.
    RunTeam(std::size_t members, std::function<bool()> stop_requested, std::function<bool()> meanwhile = {})
        : members_(members), stop_asked_(std::move(stop_requested)), meanwhile_(std::move(meanwhile)) {}

    std::size_t members() const { return members_; }

    // Calls work(member) on a thread for each member, on the calling one when there is one alone and nothing
    // else to do. Meanwhile
    // it carries out what members tell, in order. Returns when all have ended. When one throws, the others
    // are asked to stop, and the first exception that is not Interrupted is thrown on.
    void carry_out(const std::function<void(std::size_t member)>& work);

    // What follows is for members.

    // Carried out by the calling thread of carry_out(), by and by.
    void tell(std::function<void()> what);
    bool stop_requested() const;
    // Between two steps of work: waits while another member wants to be alone.
    void pass();
    // Calls wait(), which waits for something else: to others it is as if this member waited in pass().
    void rest(const std::function<void()>& wait);
    // work() on all threads, while the other members wait in pass(), or in alone() themselves, or have ended.
    void alone(const std::function<void()>& work);

  private:
    bool is_one() const { return members_ == 1 && !meanwhile_; }
    void run_member(std::size_t member, const std::function<void(std::size_t)>& work);
    void listen();

    std::size_t members_;
    std::function<bool()> stop_asked_;
    std::function<bool()> meanwhile_;
    LoopGroup loops_;
    mutable std::mutex mutex_;
    std::condition_variable told_;
    std::condition_variable changed_;
    std::deque<std::function<void()>> news_;
    std::size_t active_ = 0;   // members that have not ended
    std::size_t resting_ = 0;  // of them, in pass() or alone()
    std::size_t alone_ = 0;    // of them, in alone()
    bool measuring_ = false;   // one of these is at it
    bool stop_ = false;
    std::exception_ptr failure_;
    bool interrupted_ = false;
};

}  // namespace jevrin::inline v1
