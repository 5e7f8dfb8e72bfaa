// The messages that a test gets from message_of() and from commands that refuse (status 2), against what was
// read once: tests/recorded/messages/ROOM.txt has those of each test, so that any change of a word, a place
// or a number shows. With JEVRIN_WRITE_RECORDED set they are written anew; then read what differs before it
// is committed.
#pragma once

#include <string>

namespace jevrin::test {

// Of the running test. Times, ports and temporary directories do not count.
void note_message(std::string message);

// The text with TIME for each date and time of day.
std::string without_times(const std::string& text);

// Of a test whose messages depend on chance or on the machine.
void ignore_messages();

}  // namespace jevrin::test
