// Names of classes, files, candidates and studies that are markup: they are shown, and nothing else.
#include "browser/page_on_screen.hpp"

#include "jevrin/base/csv.hpp"
#include "jevrin/base/files.hpp"
#include "jevrin/pages/report.hpp"

namespace jevrin {
namespace {

const std::string attack = "</script><img src=x onerror=window.attacked=1>";

// Three classes in an index file, all of them named to attack.
std::filesystem::path write_hostile_study(const std::filesystem::path& directory) {
    const std::vector<std::string> classes = {attack + "a", "\"><svg onload=window.attacked=1>b",
                                              "${window.attacked=1}{{c}}'\"`"};
    std::string index = "path,label\n";
    for (std::size_t c = 0; c < classes.size(); ++c)
        for (int i = 0; i < 12; ++i) {
            const std::string name = fmt::format("<b onclick=attacked=1>{} & {}'\".png", c, i);
            make_directory(directory / "images");
            write_file(directory / "images" / name,
                       encode_png(test::small_picture(c, static_cast<std::uint64_t>(i))));
            index += csv_row(std::vector<std::string>{name, classes[c]});
        }
    write_file(directory / "images" / "index.csv", index);
    test::write_small_backbone(directory / "backbone.onnx");
    std::string plan = test::small_plan(2);
    const auto set = [&](const std::string& from, const std::string& to) {
        plan.replace(plan.find(from), from.size(), to);
    };
    set("from = \"images\"", "from = \"images/index.csv\"");
    set("name = \"small\"", "name = '''" + attack + "'''");
    set("name = \"new head\"", "name = '''<img src=x onerror=window.attacked=1>'''");
    write_file(directory / "plan.toml", plan);
    return directory / "plan.toml";
}

TEST(HostileNames, AreTextEverywhere) {
    const test::TemporaryDirectory directory;
    train_study(read_plan(write_hostile_study(directory.path())), directory / "ledger");
    test::PageOnScreen page(directory / "ledger");
    for (const char* view :
         {"study", "curves", "run", "compare", "labels", "thresholds", "images", "network", "try"}) {
        page.show(view);
        page.browser.wait_for("!document.querySelector('[role=status].quiet')");
        EXPECT_EQ(page.browser.value("window.attacked === undefined"), true) << view;
        EXPECT_EQ(page.count("main b[onclick], main img[src=x], main svg[onload], main script"), 0) << view;
        EXPECT_EQ(page.browser.value("document.body.innerText.includes(" +
                                     test::PageOnScreen::quoted(attack) + ")"),
                  true)
            << view;
    }
    page.browser.value("document.querySelector('nav a[href*=images]').click()");
    page.browser.wait_for("document.querySelector('.sample-row .picture img')?.complete");
    page.browser.click(".sample-row .picture");
    page.wait_for_text("dialog h2", "<b onclick=attacked=1>");
    EXPECT_EQ(page.browser.value("window.attacked === undefined"), true);
    EXPECT_THAT(page.browser.console(), testing::IsEmpty());

    // Nor in a report, where all of them stand inside one HTML file.
    const Ledger ledger = Ledger::open(directory / "ledger");
    write_report(ledger, ledger.study(), directory / "report.html");
    for (const char* view : {"study", "run", "labels"}) {
        page.browser.open("file://" + (directory / "report.html").string() + "#/" + view);
        page.browser.wait_for("document.querySelector('main h1')");
        EXPECT_EQ(page.browser.value("window.attacked === undefined"), true) << view;
        EXPECT_EQ(page.browser.value("document.title.includes('</script><img')"), true);
    }
    EXPECT_THAT(page.browser.console(), testing::IsEmpty());
}

}  // namespace
}  // namespace jevrin
