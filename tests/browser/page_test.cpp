// What a researcher sees and does on the page, in a browser.
#include "browser/page_on_screen.hpp"

#include "jevrin/base/files.hpp"
#include "jevrin/external/received_images.hpp"

namespace jevrin {
namespace {

using test::arrow_right;
using test::PageOnScreen;
using testing::HasSubstr;
using testing::IsEmpty;

const std::string arrow_left = "\xee\x80\x92";
const std::string arrow_down = "\xee\x80\x95";
const std::string tab = "\xee\x80\x84";
const std::string enter = "\xee\x80\x87";
const std::string escape = "\xee\x80\x8c";
const std::string delete_key = "\xee\x80\x97";

class PageInABrowser : public test::TrainedStudy {
  protected:
    static std::filesystem::path ledger_path() { return ledger_directory(); }
};

TEST_F(PageInABrowser, EveryViewShowsItsAnswerAndNoError) {
    PageOnScreen page(ledger_path());
    const std::vector<std::pair<std::string, std::string>> views = {
        {"study",
         "document.querySelectorAll('.candidates tbody tr').length === 3 && document.querySelector('.cost "
         "svg circle')"},
        {"curves",
         "document.querySelectorAll('.chart .line').length === 12 && document.querySelectorAll('.side tbody "
         "tr').length === 6"},
        {"run",
         "document.querySelector('canvas.matrix') && document.querySelectorAll('.classes tbody tr').length "
         "=== 3"
         " && document.querySelector('.layers-panel .chart .line')"},
        {"compare",
         "document.querySelector('canvas.matrix') && document.querySelectorAll('tbody tr').length >= 3"},
        {"labels", "document.querySelector('h1').innerText.includes('label')"},
        {"thresholds",
         "document.querySelectorAll('.chart-grid svg.chart').length === 5 && "
         "document.querySelector('.figures dd')"},
        {"images",
         "document.querySelectorAll('.sample-row img').length > 6 && document.querySelectorAll('td "
         ".bar').length === 3"},
        {"network", "document.querySelectorAll('.layer').length > 5 && document.querySelector('.stage img')"},
        {"try",
         "document.querySelector('input[type=file]') && document.querySelectorAll('fieldset').length === 3"},
    };
    for (const auto& [view, shown] : views) {
        page.show(view);
        page.browser.wait_for(shown);
        EXPECT_EQ(page.count(".failure"), 0) << view << ": " << page.text(".failure");
        EXPECT_EQ(page.text("nav [aria-current]").empty(), false) << view;
        // Nothing but the page's own width is needed.
        EXPECT_EQ(page.browser.value("document.documentElement.scrollWidth <= innerWidth"), true) << view;
    }
    EXPECT_THAT(page.browser.console(), IsEmpty());
    page.browser.open(page.server.address() + "#/nothing");
    page.wait_for_text("h1", "no such view");
}

TEST_F(PageInABrowser, AnImageThatWasSentBackIsReviewed) {
    const std::string path = path_of_item(items(Part::validation).front());
    ReceivedImages store(ledger_path());
    store.add({.name = "tile.png", .label = "both", .model = "stripes", .version = 1, .sender = "shop"},
              read_file(*directory_ / "images" / path));
    PageOnScreen page(ledger_path());
    page.browser.open(page.server.address() + "#/labels");
    page.wait_for_text("main", "1 image sent back, 1 to review");
    page.browser.wait_for("document.querySelector('main img[alt=\"tile.png\"]').naturalWidth > 0");
    page.browser.value(
        "[...document.querySelectorAll('main select')].filter((one) => one.innerText.includes('something "
        "else')).map((one) => (one.value = 'down', one.dispatchEvent(new Event('change')))).length");
    page.wait_for_text("main", "1 image sent back, 0 to review");
    EXPECT_EQ(store.list().at(0).label, "down");
    EXPECT_EQ(store.list().at(0).review, Review::accepted);
}

TEST_F(PageInABrowser, LabelsAreMarkedAndUnmarked) {
    const std::string item = items(Part::validation).at(1);
    const auto marks = [&] {
        std::vector<MarkRecord> found = ledger().marks(ledger().study().id);
        std::erase_if(found, [&](const MarkRecord& mark) { return mark.item != item; });
        return found;
    };
    PageOnScreen page(ledger_path());
    page.show("labels?item=" + page.browser.text("encodeURIComponent(" + PageOnScreen::quoted(item) + ")"));
    page.browser.wait_for("document.querySelector('dialog[open] input[aria-label=note]')");
    const std::string other = page.browser.text("document.querySelector('dialog select').options[1].value");
    page.set("dialog select", other);
    page.wait_for_text("dialog", "marked as " + other);
    page.set("dialog input[aria-label=note]", "half of it is out of the image");
    page.wait_for_text("dialog", "out of the image");
    ASSERT_EQ(marks().size(), 1U);
    EXPECT_EQ(marks()[0].label, other);
    EXPECT_EQ(marks()[0].note, "half of it is out of the image");
    page.press("exclude");
    page.wait_for_text("dialog", "marked to be excluded");
    EXPECT_TRUE(marks().at(0).excluded);
    EXPECT_EQ(marks()[0].note, "half of it is out of the image");
    EXPECT_THAT(page.browser.text("fetch('api/corrections').then(answer => answer.text())"),
                HasSubstr(path_of_item(item)));
    const auto none_is_left = [&] {
        for (int tries = 0; tries < 500 && !marks().empty(); ++tries) ::usleep(20'000);
        return marks().empty();
    };
    page.press("remove the mark");
    EXPECT_TRUE(none_is_left());
    page.browser.wait_for(
        "document.querySelector('dialog h3') && "
        "!document.querySelector('dialog').innerText.includes('marked')");
    page.browser.keys("x");
    page.wait_for_text("dialog", "marked to be excluded");
    page.browser.keys(delete_key);
    EXPECT_TRUE(none_is_left());
    page.browser.keys(escape);
    page.choose("judged by", "recorded");
    page.wait_for_text("main header", "judged by what ");
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, AThresholdIsMoved) {
    PageOnScreen page(ledger_path());
    page.show("thresholds?run=from%20scratch%2F1&class=both");
    page.wait_for_text("h1", "both against all others");
    // All that is called so: three of nine.
    page.set(".long input", "0");
    page.browser.wait_for("location.hash.includes('at=0.000')");
    page.wait_for_text(".figures", "0.333");
    EXPECT_EQ(page.texts(".figures div:nth-child(-n+4) dd"), "0.000,0.333,1.000,0.500");
    EXPECT_EQ(page.texts(".small-table td"), "3,0,6,0");
    page.set(".long input", "1");
    page.browser.wait_for("location.hash.includes('at=1.000')");
    EXPECT_EQ(page.texts(".small-table td"), "0,3,0,6");
    // A place of the first chart is taken as the threshold.
    page.browser.drag(".chart", 0, 0);
    page.browser.wait_for("/at=0.[345]/.test(location.hash)");
    page.choose("class", "down");
    page.wait_for_text("h1", "down against all others");
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, ImagesLayersAndCostsAreChosen) {
    PageOnScreen page(ledger_path());
    page.show("images");
    page.browser.wait_for("document.querySelectorAll('.sample-row').length === 3");
    page.choose("class", "both");
    page.browser.wait_for("document.querySelectorAll('.sample-row').length === 1");
    page.press("another sample");
    page.browser.wait_for("location.hash.includes('seed=2')");
    page.choose("prepared as by", "last stage/2");
    page.browser.click(".sample-row .picture");
    page.wait_for_text("dialog", "as last stage/2 sees it: 16");
    page.wait_for_text("dialog", "this run does not augment");
    const std::string shown = page.text("dialog h2");
    page.press("→");
    page.browser.wait_for("document.querySelector('dialog h2').innerText !== " + PageOnScreen::quoted(shown));
    page.press("close");

    page.show("network?run=new%20head%2F1");
    page.wait_for_text(".activations h2", "stage by stage");
    const std::string layer = page.text(".layer .layer-name");
    page.browser.click(".layer");
    page.wait_for_text(".activations h2", "Activations of " + layer);
    page.browser.click(".layer");
    page.wait_for_text(".activations h2", "stage by stage");
    page.press("next");
    page.browser.wait_for("location.hash.includes('item=')");
    page.browser.wait_for("[...document.querySelectorAll('.activations button')].every(b => !b.disabled)");
    page.press("previous");
    page.browser.wait_for("document.querySelector('.activations button').disabled");

    page.show("run?run=new%20head%2F1");
    page.browser.wait_for("document.querySelector('.layers-panel select')");
    page.set(".layers-panel select", "update_ratio");
    page.browser.wait_for("location.hash.includes('layers=update_ratio')");
    page.wait_for_text(".layers-panel .chart", "update ratio");
    page.browser.value("document.querySelector('.layers-panel .chart').scrollIntoView()");
    page.browser.point(".layers-panel .chart", 5, 0);
    page.browser.point(".layers-panel tbody tr");
    page.browser.wait_for("document.querySelector('.layers-panel .chart .near')");

    page.show("study");
    for (const auto& [cost, axis] : {std::pair{"trained", "trained parameters"},
                                     {"memory", "memory"},
                                     {"file", "model file"},
                                     {"seconds", "training time"}}) {
        page.choose("cost", cost);
        page.wait_for_text(".cost .chart", axis);
    }

    page.show("try");
    page.wait_for_text("main", "Runs that are asked");
    const std::string asked = page.text("main section h2");
    page.browser.click("fieldset input");
    page.browser.wait_for(
        "location.hash.includes('runs=') && "
        "document.querySelector('main section h2').innerText !== " +
        PageOnScreen::quoted(asked));
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, FromOpeningToASuspiciousLabelMarked) {
    PageOnScreen page(ledger_path());
    page.browser.open(page.server.address());
    page.wait_for_text("h1", "Use '");
    page.browser.click("nav a[href*=labels]");
    page.wait_for_text("h1", "label");
    // Labels of made-up stripes are right: one is marked from the pictures of a run instead.
    page.browser.click("nav a[href*=run]");
    page.browser.wait_for(
        "document.querySelector('canvas.matrix') && document.querySelector('.pictures select')");
    page.browser.value(
        "document.querySelector('.pictures select').value = 'all', "
        "document.querySelector('.pictures select').dispatchEvent(new Event('change'))");
    page.browser.wait_for("document.querySelectorAll('.pictures .picture img').length > 4");
    page.browser.click(".pictures .picture");
    page.browser.wait_for(
        "document.querySelector('dialog[open] .bars') && "
        "document.querySelector('dialog[open]').innerText.includes('6 runs')");
    const std::string first = page.text("dialog h2");
    page.browser.wait_for("document.querySelectorAll('dialog .gallery img').length === 7");
    page.browser.keys(arrow_right);
    page.browser.wait_for("document.querySelector('dialog h2').innerText !== " + PageOnScreen::quoted(first));
    EXPECT_THAT(page.text("dialog header"), HasSubstr("2 of"));
    page.browser.keys(arrow_left);
    page.wait_for_text("dialog h2", first);
    // The same item among the labels.
    const std::string item =
        page.browser.text("new URLSearchParams(location.hash.split('?')[1]).get('item')");
    page.browser.keys(escape);
    page.browser.wait_for("!document.querySelector('dialog[open]')");
    EXPECT_EQ(page.browser.address().find("item="), std::string::npos);
    page.show("labels?item=" + page.browser.text("encodeURIComponent(" + PageOnScreen::quoted(item) + ")"));
    page.browser.wait_for("document.querySelector('dialog[open] .bars, dialog[open] .others')");
    page.browser.keys("x");
    page.wait_for_text("dialog", "marked to be excluded");
    const auto marks = ledger().marks(ledger().study().id);
    ASSERT_EQ(marks.size(), 1U);
    EXPECT_EQ(marks[0].item, item);
    EXPECT_TRUE(marks[0].excluded);
    page.browser.keys("1");
    page.wait_for_text("dialog", "marked as across");
    page.browser.keys(escape);
    page.browser.wait_for("document.querySelector('a[download]')");
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, WhatIsSeenHasAnAddressAndBackWorks) {
    PageOnScreen page(ledger_path());
    page.show("curves");
    page.browser.wait_for("document.querySelectorAll('.side tbody tr').length === 6");
    page.browser.click(".side tbody tr[data-id='new head/2'] td:nth-child(3)");
    page.wait_for_text("h1", "Curves of new head/2");
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 2");
    page.browser.value(
        "[...document.querySelectorAll('.controls select')][1].value = 'step', "
        "[...document.querySelectorAll('.controls select')][1].dispatchEvent(new Event('change'))");
    page.browser.wait_for("location.hash.includes('over=step')");
    page.wait_for_text(".chart", "optimiser steps");
    const std::string address = page.browser.address();
    page.browser.click("nav a[href*=study]");
    page.wait_for_text("h1", "Use '");
    page.browser.back();
    page.wait_for_text("h1", "Curves of new head/2");
    EXPECT_EQ(page.browser.address(), address);
    page.browser.back();
    page.browser.back();
    page.wait_for_text("h1", "Curves of 6 of 6 runs");
    // A colleague opens the same.
    test::Browser colleague;
    colleague.open(address);
    colleague.wait_for(
        "document.querySelector('h1')?.innerText.includes('new head/2') && "
        "document.querySelectorAll('.chart "
        ".line').length === 2");
    EXPECT_EQ(colleague.value("document.querySelector('.chart').textContent.includes('optimiser steps')"),
              true);
}

TEST_F(PageInABrowser, PointingShowsValuesDraggingZoomsAndAClickPins) {
    PageOnScreen page(ledger_path());
    page.show("curves");
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 12");
    const std::string cell = ".side tbody tr[data-id='new head/1'] td:nth-child(2)";
    EXPECT_EQ(page.text(cell), "–");
    page.browser.point(".chart", 5, 0);
    page.browser.wait_for("document.querySelector(" + PageOnScreen::quoted(cell) + ").innerText !== '–'");
    EXPECT_NE(page.browser.value("[...document.querySelectorAll('.pointer circle')].some(c => "
                                 "c.getAttribute('visibility') === 'visible')"),
              false);
    page.browser.drag(".chart", -200, 100);
    page.browser.wait_for("location.hash.includes('from=')");
    page.browser.wait_for("[...document.querySelectorAll('button')].some(b => b.innerText === 'whole axis')");
    page.browser.back();
    page.browser.wait_for("!location.hash.includes('from=')");
    page.browser.drag(".chart", 0, 0);
    page.browser.wait_for("location.hash.includes('pin=2')");
    page.browser.point("h1");
    page.browser.wait_for("document.querySelector(" + PageOnScreen::quoted(cell) + ").innerText !== '–'");
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, AMatrixIsScrubbedThroughItsEpochs) {
    PageOnScreen page(ledger_path());
    page.show("run?run=from%20scratch%2F1");
    page.browser.wait_for("document.querySelector('.film output').innerText.includes('of 3')");
    for (const int epoch : {1, 2, 3}) {
        page.browser.value(
            fmt::format("document.querySelector('.film input').value = {}, "
                        "document.querySelector('.film input').dispatchEvent(new Event('input'))",
                        epoch));
        page.wait_for_text(".film output", fmt::format("epoch {} of 3", epoch));
        const Ledger open = ledger();
        const RecordedEpoch recorded = open.epochs(open.run(open.study().id, "from scratch/1").id)
                                           .at(static_cast<std::size_t>(epoch - 1));
        EXPECT_THAT(page.text(".film output"),
                    HasSubstr(fmt::format("{} of {} right", recorded.validation.correct(),
                                          recorded.validation.total())));
    }
    // A cell, with the keyboard: its pictures.
    page.browser.value("document.querySelector('canvas.matrix').focus()");
    page.browser.keys(arrow_down);
    page.browser.wait_for("document.querySelector('.readout').innerText.includes('predicted as')");
    page.browser.keys(arrow_right);
    page.browser.keys(enter);
    page.browser.wait_for("location.hash.includes('true=') && location.hash.includes('predicted=')");
    page.wait_for_text(".pictures h2", "predicted as");
    page.browser.click(".as-table summary");
    page.browser.wait_for("document.querySelectorAll('.as-table td').length === 9");
    EXPECT_THAT(page.browser.console(), IsEmpty());
}

TEST_F(PageInABrowser, TheKeyboardReachesEverything) {
    PageOnScreen page(ledger_path());
    page.browser.open(page.server.address());
    page.wait_for_text("h1", "Use '");
    // Past the link to the content and the first view, to the curves.
    for (int k = 0; k < 3; ++k) page.browser.keys(tab);
    EXPECT_EQ(page.browser.text("document.activeElement.innerText"), "Curves");
    EXPECT_NE(page.browser.text("getComputedStyle(document.activeElement).outlineStyle"), "none");
    page.browser.keys(enter);
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 12");
    page.browser.value("document.querySelector('.chart').focus()");
    page.browser.keys(arrow_right);
    page.browser.keys(arrow_right);
    page.browser.wait_for("document.querySelector('.side tbody td:nth-child(2)').innerText !== '–'");
    page.browser.keys(enter);
    page.browser.wait_for("location.hash.includes('pin=2')");
    page.browser.value("document.querySelector('.side tbody tr').focus()");
    page.browser.keys(arrow_down);
    EXPECT_EQ(page.browser.text("document.activeElement.dataset.id"), "from scratch/2");
    page.browser.keys(enter);
    page.wait_for_text("h1", "from scratch/2");
    // Every control has a name for those who cannot see it.
    for (const char* view :
         {"study", "curves", "run", "compare", "labels", "thresholds", "images", "network", "try"}) {
        page.show(view);
        page.browser.wait_for("!document.querySelector('[role=status].quiet')");
        EXPECT_EQ(
            page.browser.text("[...document.querySelectorAll('button, a, input, select, canvas, img, "
                              "svg[role=img]')].filter(e => "
                              "e.offsetParent !== null && !(e.innerText || e.ariaLabel || e.alt || e.title "
                              "|| e.getAttribute('aria-label') || "
                              "e.closest('label') || e.value)).map(e => e.outerHTML.slice(0, 80)).join()"),
            "")
            << view;
    }
}

// Contrast of all text against what is behind it (WCAG 2.1: at least 4.5).
const std::string poorest_contrast = R"js((() => {
        const rgb = (colour) => (colour.match(/[\d.]+/g) || []).map(v => colour.startsWith('color(') ? 255 * v : Number(v));
        const light = ([r, g, b]) => [r, g, b].map(v => v / 255).map(v => v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4)
            .reduce((sum, v, i) => sum + v * [0.2126, 0.7152, 0.0722][i], 0);
        const behind = (e) => { for (; e; e = e.parentElement) { const c = rgb(getComputedStyle(e).backgroundColor); if (c.length === 3 || c[3] > 0.99) return c; } return [255, 255, 255]; };
        const poor = [];
        for (const e of document.querySelectorAll('body *')) {
            if (![...e.childNodes].some(n => n.nodeType === 3 && n.textContent.trim()) || !e.getClientRects().length || e.disabled || e.closest('.unseen, .skip, option')) continue;
            const style = getComputedStyle(e);
            const [a, b] = [light(rgb(e instanceof SVGElement ? style.fill : style.color)), light(behind(e))].sort((x, y) => y - x);
            if ((a + 0.05) / (b + 0.05) < 4.5) poor.push(e.outerHTML.slice(0, 90) + ' ' + ((a + 0.05) / (b + 0.05)).toFixed(2));
        }
        return poor.slice(0, 5).join('\n');
    })())js";

class ThemeOfThePage : public PageInABrowser, public testing::WithParamInterface<bool> {};
INSTANTIATE_TEST_SUITE_P(Themes, ThemeOfThePage, testing::Bool(),
                         [](const auto& theme) { return theme.param ? "Dark" : "Light"; });

TEST_P(ThemeOfThePage, IsReadableAndCanBeChanged) {
    const bool dark = GetParam();
    PageOnScreen page(ledger_path(), {.dark = dark});
    for (const char* view : {"study", "curves", "run", "compare", "thresholds", "images", "network", "try"}) {
        page.show(view);
        page.browser.wait_for("!document.querySelector('[role=status].quiet')");
        EXPECT_EQ(page.browser.text(poorest_contrast), "") << view;
    }
    const std::string is_light = "getComputedStyle(document.body).backgroundColor.match(/\\d+/)[0] > 128";
    EXPECT_EQ(page.browser.value(is_light), !dark);
    // The other one is chosen, and stays.
    page.browser.click(".margin > button");
    EXPECT_EQ(page.browser.value(is_light), dark);
    page.show("study");
    EXPECT_EQ(page.browser.value(is_light), dark);
}

TEST_F(PageInABrowser, ImagesAreTried) {
    PageOnScreen page(ledger_path(), {.camera = true});
    page.show("try");
    page.browser.choose_file("input[type=file]",
                             *directory_ / "images" / path_of_item(items(Part::validation).front()));
    page.browser.wait_for("document.querySelectorAll('.tried .answer-row').length === 3");
    EXPECT_THAT(page.text(".tried .answer-row"), HasSubstr("%"));
    // Dropped and pasted.
    page.browser.value(R"js((async () => {
        const canvas = document.createElement('canvas');
        canvas.getContext('2d').fillRect(10, 10, 50, 50);
        const blob = await new Promise((done) => canvas.toBlob(done));
        const data = new DataTransfer();
        data.items.add(new File([blob], 'from outside.png', { type: 'image/png' }));
        document.querySelector('.drop').dispatchEvent(new DragEvent('drop', { dataTransfer: data, cancelable: true }));
        document.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data }));
    })() && 0)js");
    page.browser.wait_for("document.querySelectorAll('.tried .answer-row').length === 9");
    EXPECT_EQ(page.text(".tried .said"), "from outside.png");
    page.browser.choose_file("input[type=file]", *directory_ / "plan.toml");
    page.browser.wait_for("document.querySelector('.tried .failure')");
    // The camera of the browser films a test pattern.
    page.browser.click(".drop button");
    page.browser.wait_for(
        "document.querySelector('[data-rate]') && Number(document.querySelector('[data-rate]').dataset.rate) "
        ">= 10",
        8);
    page.browser.click(".drop button");
    page.browser.wait_for("!document.querySelector('video[src], .drop video')");
    page.show("study");
    EXPECT_EQ(ledger().test_looks(ledger().study().id).size(), 0U);
}

TEST_F(PageInABrowser, ChartsAndTablesAreSaved) {
    const test::TemporaryDirectory downloads;
    PageOnScreen page(ledger_path(), {.downloads = downloads.path()});
    page.show("curves");
    page.browser.wait_for("document.querySelectorAll('.chart .line').length === 12");
    const auto saved = [&](const char* name) { return test::saved_file(downloads / name); };
    page.browser.value(
        "[...document.querySelectorAll('.chart-tools button')].slice(0, 3).forEach(b => b.click())");
    EXPECT_THAT(saved("small-accuracy.svg"), HasSubstr("<svg"));
    EXPECT_THAT(saved("small-accuracy.png"), HasSubstr("PNG"));
    EXPECT_THAT(saved("small-accuracy.csv"), HasSubstr("\"new head/1, validation\",3,"));
    page.browser.click(".side .tools button");
    EXPECT_THAT(saved("small-runs.csv"), HasSubstr("new head/1"));
}

}  // namespace
}  // namespace jevrin
