// Loaded before the C library (LD_PRELOAD), makes one call among those that touch files fail, wait, or end
// the process:
//
//     JEVRIN_FAULT_CALLS   write, sync, rename, open, read, make, remove: which calls are counted
//     JEVRIN_FAULT_UNDER   only those on files below this directory
//     JEVRIN_FAULT_AT      the place of the call, from 1; 0: none
//     JEVRIN_FAULT_ACT     fail (the default), kill, delay
//     JEVRIN_FAULT_ERROR   the error number of one that fails (default: ENOSPC)
//     JEVRIN_FAULT_MOUNTS  a file that is read instead of /proc/self/mountinfo
//     JEVRIN_FAULT_LOCKS   the error number of every lock (ENOLCK: 37)
//     JEVRIN_FAULT_COUNT   a file that receives the number of counted calls when the process ends
#include <dlfcn.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>

namespace {

const char* setting(const char* name) {
    const char* value = std::getenv(name);
    return value == nullptr ? "" : value;
}

std::atomic<long> counted{0};

bool is_counted(const char* group, const char* path) {
    const char* under = setting("JEVRIN_FAULT_UNDER");
    return std::strstr(setting("JEVRIN_FAULT_CALLS"), group) != nullptr &&
           std::strncmp(path, under, std::strlen(under)) == 0;
}

// Whether this call is to fail; errno is set then.
bool fails(const char* group, const char* path) {
    if (!is_counted(group, path) || ++counted != std::atol(setting("JEVRIN_FAULT_AT"))) return false;
    const char* act = setting("JEVRIN_FAULT_ACT");
    if (std::strcmp(act, "kill") == 0) ::kill(::getpid(), SIGKILL);
    if (std::strcmp(act, "delay") == 0) {
        ::usleep(200'000);
        return false;
    }
    const int error = std::atoi(setting("JEVRIN_FAULT_ERROR"));
    errno = error == 0 ? ENOSPC : error;
    return true;
}

bool fails(const char* group, int descriptor) {
    char link[64];
    char path[4096] = "";
    std::snprintf(link, sizeof(link), "/proc/self/fd/%d", descriptor);
    if (::syscall(SYS_readlinkat, AT_FDCWD, link, path, sizeof(path) - 1) < 0) return false;
    return fails(group, path);
}

// Relative paths are below the working directory.
bool fails_at(const char* group, const char* path) {
    char whole[8192] = "";
    if (path[0] == '/') return fails(group, path);
    if (::getcwd(whole, sizeof(whole) / 2) == nullptr) return false;
    std::strncat(whole, "/", sizeof(whole) - std::strlen(whole) - 1);
    std::strncat(whole, path, sizeof(whole) - std::strlen(whole) - 1);
    return fails(group, whole);
}

template <typename Function>
Function* next(const char* name) {
    return reinterpret_cast<Function*>(::dlsym(RTLD_NEXT, name));
}

struct Report {
    ~Report() {
        const char* file = setting("JEVRIN_FAULT_COUNT");
        if (file[0] == '\0') return;
        const long descriptor = ::syscall(SYS_openat, AT_FDCWD, file, O_WRONLY | O_CREAT | O_TRUNC, 0666);
        char text[32];
        const int length = std::snprintf(text, sizeof(text), "%ld", counted.load());
        ::syscall(SYS_write, descriptor, text, static_cast<std::size_t>(length));
        ::syscall(SYS_close, descriptor);
    }
} const report;

mode_t mode_of(int flags, va_list arguments) {
    return (flags & (O_CREAT | __O_TMPFILE)) != 0 ? va_arg(arguments, mode_t) : 0;
}

}  // namespace

extern "C" {

int open(const char* path, int flags, ...) {
    va_list arguments;
    va_start(arguments, flags);
    const mode_t mode = mode_of(flags, arguments);
    va_end(arguments);
    if (fails_at("open", path)) return -1;
    if (std::strcmp(path, "/proc/self/mountinfo") == 0 && setting("JEVRIN_FAULT_MOUNTS")[0] != '\0')
        path = setting("JEVRIN_FAULT_MOUNTS");
    return next<int(const char*, int, ...)>("open")(path, flags, mode);
}
int open64(const char* path, int flags, ...) {
    va_list arguments;
    va_start(arguments, flags);
    const mode_t mode = mode_of(flags, arguments);
    va_end(arguments);
    if (fails_at("open", path)) return -1;
    return next<int(const char*, int, ...)>("open64")(path, flags, mode);
}
// Commands that lock; all others are left alone.
static bool lock_fails(int command) {
    const int error = std::atoi(setting("JEVRIN_FAULT_LOCKS"));
    const bool locks =
        command == F_SETLK || command == F_SETLKW || command == F_OFD_SETLK || command == F_OFD_SETLKW;
    if (error == 0 || !locks) return false;
    errno = error;
    return true;
}
int fcntl(int descriptor, int command, ...) {
    va_list arguments;
    va_start(arguments, command);
    void* argument = va_arg(arguments, void*);
    va_end(arguments);
    if (lock_fails(command)) return -1;
    return next<int(int, int, ...)>("fcntl")(descriptor, command, argument);
}
int fcntl64(int descriptor, int command, ...) {
    va_list arguments;
    va_start(arguments, command);
    void* argument = va_arg(arguments, void*);
    va_end(arguments);
    if (lock_fails(command)) return -1;
    return next<int(int, int, ...)>("fcntl64")(descriptor, command, argument);
}
ssize_t write(int descriptor, const void* bytes, size_t size) {
    if (fails("write", descriptor)) return -1;
    return next<ssize_t(int, const void*, size_t)>("write")(descriptor, bytes, size);
}
ssize_t pwrite(int descriptor, const void* bytes, size_t size, off_t at) {
    if (fails("write", descriptor)) return -1;
    return next<ssize_t(int, const void*, size_t, off_t)>("pwrite")(descriptor, bytes, size, at);
}
ssize_t pwrite64(int descriptor, const void* bytes, size_t size, off64_t at) {
    if (fails("write", descriptor)) return -1;
    return next<ssize_t(int, const void*, size_t, off64_t)>("pwrite64")(descriptor, bytes, size, at);
}
ssize_t read(int descriptor, void* bytes, size_t size) {
    if (fails("read", descriptor)) return -1;
    return next<ssize_t(int, void*, size_t)>("read")(descriptor, bytes, size);
}
ssize_t pread(int descriptor, void* bytes, size_t size, off_t at) {
    if (fails("read", descriptor)) return -1;
    return next<ssize_t(int, void*, size_t, off_t)>("pread")(descriptor, bytes, size, at);
}
ssize_t pread64(int descriptor, void* bytes, size_t size, off64_t at) {
    if (fails("read", descriptor)) return -1;
    return next<ssize_t(int, void*, size_t, off64_t)>("pread64")(descriptor, bytes, size, at);
}
int fsync(int descriptor) {
    if (fails("sync", descriptor)) return -1;
    return next<int(int)>("fsync")(descriptor);
}
int fdatasync(int descriptor) {
    if (fails("sync", descriptor)) return -1;
    return next<int(int)>("fdatasync")(descriptor);
}
int ftruncate(int descriptor, off_t size) noexcept {
    if (fails("write", descriptor)) return -1;
    return next<int(int, off_t)>("ftruncate")(descriptor, size);
}
int ftruncate64(int descriptor, off64_t size) noexcept {
    if (fails("write", descriptor)) return -1;
    return next<int(int, off64_t)>("ftruncate64")(descriptor, size);
}
int rename(const char* from, const char* to) noexcept {
    if (fails_at("rename", to)) return -1;
    return next<int(const char*, const char*)>("rename")(from, to);
}
int mkdir(const char* path, mode_t mode) noexcept {
    if (fails_at("make", path)) return -1;
    return next<int(const char*, mode_t)>("mkdir")(path, mode);
}
int unlink(const char* path) noexcept {
    if (fails_at("remove", path)) return -1;
    return next<int(const char*)>("unlink")(path);
}

}  // extern "C"
