#include <doctest/doctest.h>
#include <sqlite3.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <thread>

#include "heron/store/picture_folder.hpp"
#include "heron/store/result_store.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace std::chrono_literals;
using support::contains;
using support::error_of;
using support::TemporaryFolder;

namespace {

StoredResult result_of(uint64_t number, const std::string& report = "{}") {
  return {.number = number, .source = "recording:tray", .settings = "0123", .report = report};
}

void add(ResultStore& store, const std::string& report = "{}") {
  store.add(result_of(store.next_number(), report), std::chrono::steady_clock::now());
}

}  // namespace

TEST_CASE("numbers, session and states go on over a restart") {
  TemporaryFolder folder;
  const StoreSettings settings{.folder = folder / "store"};
  std::string session;
  {
    ResultStore store(settings);
    session = store.session();
    CHECK(session.size() == 8);
    CHECK(store.newest() == 0);
    CHECK_FALSE(store.unsettled());
    add(store, "{\"number\":1}"), add(store), add(store);
    CHECK(store.newest() == 3);
    store.settle(1, ResultState::done);
    store.settle(2, ResultState::given_up, "too old");
    store.set_position("hall", 2);
  }
  ResultStore store(settings);
  CHECK(store.session() == session);
  CHECK(store.next_number() == 4);
  CHECK(store.taken_of("recording:tray") == 3);
  CHECK(store.taken_of("another") == 0);
  CHECK(store.position("hall") == 2);
  CHECK(store.position("nobody") == 0);
  REQUIRE(store.unsettled());
  CHECK(store.unsettled()->number == 3);
  CHECK(store.result(1)->report == "{\"number\":1}");
  CHECK(store.result(2)->why == "too old");
  CHECK_FALSE(store.result(9));
  CHECK(store.after(1, 10).size() == 2);
  CHECK(store.after(0, 2).back().number == 2);
  CHECK(store.counts().results == 3);
  CHECK(store.counts().given_up == 1);
  // One that is acknowledged still waits for its DONE, unless that was given up.
  store.settle(3, ResultState::acknowledged);
  CHECK(store.unsettled()->state == ResultState::acknowledged);
  add(store);
  CHECK(store.unsettled()->number == 4);
}

TEST_CASE("a number that is not the next one is refused") {
  TemporaryFolder folder;
  ResultStore store({.folder = folder / "store"});
  CHECK(contains(error_of([&] { store.add(result_of(5), {}); }), "result 5 comes where 1 should"));
  CHECK(store.newest() == 0);
}

TEST_CASE("the age of a result goes on over a restart") {
  TemporaryFolder folder;
  const StoreSettings settings{.folder = folder / "store"};
  {
    ResultStore store(settings);
    store.add(result_of(1), std::chrono::steady_clock::now() - 5s);
  }
  ResultStore store(settings);
  const auto age = store.unsettled()->age;
  CHECK(age >= 5s);
  CHECK(age < 15s);
}

TEST_CASE("one store has one station") {
  TemporaryFolder folder;
  ResultStore store({.folder = folder / "store"});
  CHECK(contains(error_of([&] { ResultStore second({.folder = folder / "store"}); }),
                 "another station is running"));
}

TEST_CASE("settled results leave by number and by size, waiting ones never do, and numbers go on") {
  TemporaryFolder folder;
  const std::string report(2000, 'x');
  {
    ResultStore store({.folder = folder / "few", .sync = StoreSync::system, .keep_results = 100});
    for (int i = 0; i < 1000; ++i) {
      add(store);
      if (i != 7) store.settle(store.newest(), ResultState::done);
    }
    CHECK(store.counts().results <= 165);
    CHECK(store.unsettled()->number == 8);
    CHECK(store.next_number() == 1001);
  }
  const StoreSettings small{.folder = folder / "small", .sync = StoreSync::system, .max_bytes = 1000000};
  {
    ResultStore store(small);
    for (int i = 0; i < 3000; ++i) {
      add(store, report);
      store.settle(store.newest(), ResultState::done);
    }
    CHECK(store.counts().bytes < 1300000);
    CHECK(store.counts().results > 200);
  }
  CHECK(std::filesystem::file_size(folder / "small/results.db") < 1500000);
  ResultStore store(small);
  CHECK(store.next_number() == 3001);
}

TEST_CASE("under a load without a pause the files stay small") {
  TemporaryFolder folder;
  ResultStore store({.folder = folder / "store", .sync = StoreSync::system, .keep_results = 200});
  const int results = sanitized ? 3000 : 20000;
  uintmax_t most = 0;
  for (int i = 0; i < results; ++i) {
    add(store, std::string(1000, 'l'));
    store.settle(store.newest(), ResultState::acknowledged);
    store.settle(store.newest(), ResultState::done);
    if (i % 100 != 0) continue;
    uintmax_t now = 0;
    for (const auto& entry : std::filesystem::directory_iterator(folder / "store")) now += entry.file_size();
    most = std::max(most, now);
  }
  CHECK(most < 60000000);
}

TEST_CASE("a file that is not a store is refused and left unchanged") {
  TemporaryFolder folder;
  const auto error = [&] { return error_of([&] { ResultStore store({.folder = folder.path()}); }); };
  support::write_text(folder / "results.db", "this is a text and no database, and it is long enough for one");
  CHECK(contains(error(), "is broken"));
  CHECK(contains(support::read_text(folder / "results.db"), "this is a text"));
  std::filesystem::remove(folder / "results.db");
  support::write_text(folder / "file", "");
  CHECK(contains(error_of([&] { ResultStore store({.folder = folder / "file/store"}); }), "store"));
  // Of a later version, and another program's.
  { ResultStore store({.folder = folder / "later"}); }
  const auto change = [&](const std::string& at, size_t offset, char to) {
    std::fstream file(at, std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(static_cast<std::streamoff>(offset));
    file.put(to);
  };
  change(folder / "later/results.db", 63, 9);  // the version's last byte in SQLite's header
  CHECK(contains(error_of([&] { ResultStore store({.folder = folder / "later"}); }),
                 "version 9, and this program reads version 1"));
  change(folder / "later/results.db", 68, 1);  // whose it is
  change(folder / "later/results.db", 63, 1);
  CHECK(
      contains(error_of([&] { ResultStore store({.folder = folder / "later"}); }), "no store of a station"));
}

TEST_CASE("a store that is torn at any byte is refused or reads what was whole") {
  TemporaryFolder folder;
  {
    ResultStore store({.folder = folder / "store"});
    for (int i = 0; i < 200; ++i) add(store, std::string(300, 'r'));
  }
  const std::string whole = support::read_text(folder / "store/results.db");
  int refused = 0, read = 0;
  const int tries = sanitized ? 20 : 60;
  for (int i = 0; i < tries; ++i) {
    const std::string at = folder / ("torn" + std::to_string(i));
    std::filesystem::create_directory(at);
    std::string torn = whole;
    if (i % 2 == 0)
      torn.resize(whole.size() * static_cast<size_t>(i + 1) / static_cast<size_t>(tries + 1));
    else
      for (size_t k = 0; k < 64; ++k)
        torn[(whole.size() * static_cast<size_t>(i) / static_cast<size_t>(tries)) + k] ^= 0x5a;
    support::write_text(at + "/results.db", torn);
    try {
      ResultStore store({.folder = at});
      for (const StoredResult& r : store.after(0, 1000)) CHECK(r.number <= 200);
      ++read;
    } catch (const Error& error) {
      CHECK(contains(error.what(), "results.db"));
      ++refused;
    }
  }
  CHECK(refused + read == tries);
  CHECK(refused > 0);
}

namespace {

/// Adds results until it is killed, and tells each number that is stored.
pid_t begin_adding(const StoreSettings& settings, int tell) {
  const pid_t child = fork();
  if (child != 0) return child;
  {
    ResultStore store(settings);
    for (;;) {
      add(store, std::string(500, 'k'));
      const uint64_t number = store.newest();
      if (write(tell, &number, sizeof number) != sizeof number) _exit(1);
      if (number % 3 == 0) store.settle(number, ResultState::done);
    }
  }
}

}  // namespace

TEST_CASE("killed at any instant, a store holds every result that it said is stored, and each number once") {
  TemporaryFolder folder;
  const StoreSettings settings{.folder = folder / "store", .sync = StoreSync::system};
  uint64_t told = 0;
  const int kills = sanitized ? 5 : 40;
  for (int i = 0; i < kills; ++i) {
    int pipes[2];
    REQUIRE(pipe(pipes) == 0);
    const pid_t child = begin_adding(settings, pipes[1]);
    close(pipes[1]);
    uint64_t number = 0;
    REQUIRE(read(pipes[0], &number, sizeof number) == sizeof number);
    // Of the one before, at most the last was stored and not told.
    CHECK(number >= told + 1);
    CHECK(number <= told + 2);
    told = number;
    std::this_thread::sleep_for(std::chrono::microseconds(100 + 731 * i));
    kill(child, SIGKILL);
    while (read(pipes[0], &number, sizeof number) == sizeof number) {
      CHECK(number == told + 1);
      told = number;
    }
    close(pipes[0]);
    int status = 0;
    waitpid(child, &status, 0);
    CHECK(WIFSIGNALED(status));
  }
  ResultStore store(settings);
  CHECK(store.newest() >= told);
  CHECK(store.newest() <= told + 1);
  CHECK(store.counts().results == static_cast<int64_t>(store.newest()));
}

TEST_CASE("after a power cut that took the last results, no number is given again") {
  TemporaryFolder folder;
  const StoreSettings settings{.folder = folder / "store", .sync = StoreSync::system};
  // A child dies without a farewell; its system start is made another one, as after a power cut.
  const pid_t child = fork();
  if (child == 0) {
    ResultStore store(settings);
    add(store), add(store);
    _exit(0);
  }
  int status = 0;
  waitpid(child, &status, 0);
  const auto sql = [&](const char* text) {
    sqlite3* database = nullptr;
    REQUIRE(sqlite3_open((settings.folder + "/results.db").c_str(), &database) == SQLITE_OK);
    CHECK(sqlite3_exec(database, text, nullptr, nullptr, nullptr) == SQLITE_OK);
    sqlite3_close(database);
  };
  sql("UPDATE about SET value = 'another start' WHERE key = 'boot'");
  uint64_t next = 0;
  {
    ResultStore store(settings);
    next = store.next_number();
    CHECK(next > 1000);
    CHECK(store.unsettled()->number == 1);
  }
  ResultStore store(settings);
  CHECK(store.next_number() == next);
}

TEST_CASE("a full disk is said, and the store stands as it was") {
  if (sanitized) return;  // they need files of their own
  TemporaryFolder folder;
  const StoreSettings settings{.folder = folder / "store"};
  { ResultStore store(settings); }
  // A child whose files cannot grow any further.
  int pipes[2];
  REQUIRE(pipe(pipes) == 0);
  const pid_t child = fork();
  if (child == 0) {
    signal(SIGXFSZ, SIG_IGN);
    const rlimit limit{200000, 200000};
    setrlimit(RLIMIT_FSIZE, &limit);
    uint64_t stored = 0;
    try {
      ResultStore store(settings);
      for (int i = 0; i < 1000; ++i) add(store, std::string(1000, 'd')), stored = store.newest();
    } catch (const Error& error) {
      if (error.code() == ErrorCode::not_writable && write(pipes[1], &stored, sizeof stored) == sizeof stored)
        _exit(3);
    }
    _exit(4);
  }
  int status = 0;
  waitpid(child, &status, 0);
  CHECK(WEXITSTATUS(status) == 3);
  uint64_t stored = 0;
  REQUIRE(read(pipes[0], &stored, sizeof stored) == sizeof stored);
  close(pipes[0]), close(pipes[1]);
  ResultStore store(settings);
  CHECK(store.newest() == stored);
  CHECK(stored > 10);
  add(store);
}

TEST_CASE("the first pictures of each kind of failure stay for good, over restarts") {
  TemporaryFolder folder;
  Picture picture;
  picture.pixels = Image<uint8_t>(4, 3);
  const std::string where = folder / "pictures", kinds = folder / "pictures/first/kinds.csv";
  const auto keep = [&](PictureFolder& in, uint64_t from, uint64_t to, const std::string& kind) {
    for (uint64_t number = from; number <= to; ++number) CHECK(in.keep(number, picture, kind).empty());
  };
  {
    PictureFolder pictures(where, 3, 2);
    keep(pictures, 1, 5, "width: bad");
    keep(pictures, 6, 9, "");
    keep(pictures, 10, 10, "leaf, withheld: it cannot be gripped");
  }
  PictureFolder again(where, 3, 2);
  keep(again, 11, 20, "leaf, withheld: it cannot be gripped");
  const auto is_kept = [&](uint64_t number) { return !PictureFolder::find(where, number).empty(); };
  for (const uint64_t number : {1, 2, 10, 11, 18, 19, 20}) CHECK(is_kept(number));
  for (const uint64_t number : {3, 5, 9, 12, 17}) CHECK_FALSE(is_kept(number));
  CHECK(support::read_text(kinds) ==
        "number,kind\n1,width: bad\n2,width: bad\n10,leaf, withheld: it cannot be gripped\n"
        "11,leaf, withheld: it cannot be gripped\n");
  keep(again, 21, 21, "a name\nin two lines: bad");
  CHECK(contains(support::read_text(kinds), "21,a name in two lines: bad\n"));
  // However many kinds there are, a disk is not filled with firsts.
  for (uint64_t number = 100; number < 400; ++number)
    CHECK(again.keep(number, picture, "kind " + std::to_string(number)).empty());
  CHECK(is_kept(100));
  CHECK_FALSE(is_kept(390));
  CHECK(is_kept(399));
  PictureFolder full(where, 3, 2);
  for (const char* broken : {"", "17", "number,kind\n17,", "number,kind\n17,\n", "number,kind\n17\n"}) {
    support::write_text(kinds, broken);
    CHECK(contains(error_of([&] { PictureFolder(where, 3, 2); }), "kinds.csv"));
    CHECK_NOTHROW(PictureFolder(where, 3));
  }
}

TEST_CASE("of raw pictures the newest stay") {
  TemporaryFolder folder;
  PictureFolder pictures(folder / "pictures", 3);
  Picture picture;
  picture.pixels = Image<uint8_t>(4, 3);
  for (const uint64_t number : {2, 5, 9, 1000000, 1000001}) CHECK(pictures.keep(number, picture).empty());
  const std::string where = folder / "pictures";
  CHECK(PictureFolder::find(where, 5).empty());
  CHECK(PictureFolder::find(where, 9) == where + "/000009.png");
  CHECK_FALSE(PictureFolder::find(where, 1000001).empty());
  support::write_text(folder / "pictures/mine.txt", "");
  CHECK(pictures.keep(1000002, picture).empty());
  CHECK(std::filesystem::exists(folder / "pictures/mine.txt"));
}
