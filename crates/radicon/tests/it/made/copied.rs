//! Three sites as careless people copy them by hand: a shop, a club and a handbook. Each has side menus, pages of two
//! kinds, one page that is like no other, and copies that were left behind.

use radicon::SourceFile;

use super::Random;

/// So many words make a sentence, at least.
const SHORTEST: usize = 6;

const WORDS: &[&str] = &[
    "every", "spring", "water", "early", "morning", "before", "rain", "after", "dry", "soil", "under", "light", "warm",
    "south", "wall", "keeps", "colour", "until", "autumn", "small", "garden", "needs", "little", "care", "grows",
    "well", "beside", "path", "good", "hands", "takes", "time", "comes", "again", "next", "year", "wind", "slow",
];

/// Some sentences of their own.
fn prose(random: &mut Random, sentences: usize) -> String {
    let sentence = |random: &mut Random| {
        let words: Vec<&str> = (0..SHORTEST + random.below(9)).map(|_| random.pick(WORDS)).collect();
        let text = words.join(" ");
        format!("{}{}.", text[..1].to_uppercase(), &text[1..])
    };
    (0..sentences).map(|_| sentence(random)).collect::<Vec<_>>().join(" ")
}

fn word(name: &str) -> String {
    name.to_lowercase().replace(' ', "-")
}

/// The way up from a folder of so many levels.
fn up(levels: usize) -> String {
    "../".repeat(levels)
}

const SHELVES: [(&str, &[&str], &str); 4] = [
    (
        "Seeds",
        &["Pea", "Bean", "Beet", "Kale", "Leek", "Chard", "Onion", "Radish", "Spinach", "Turnip", "Carrot", "Lettuce"],
        "Seeds keep for three years in a cool drawer. Write the year on the bag.",
    ),
    (
        "Tools",
        &["Spade", "Rake", "Hoe", "Fork", "Dibber", "Trowel", "Shears", "Sieve", "Barrow", "Bucket"],
        "All blades are ground once a year, free of charge, if you bring them to the yard.",
    ),
    (
        "Bulbs",
        &["Tulip", "Crocus", "Snowdrop", "Hyacinth", "Squill", "Iris", "Lily", "Allium", "Daffodil", "Anemone"],
        "Plant bulbs twice as deep as they are high, and mark the place with a stick.",
    ),
    (
        "Trees",
        &["Apple", "Pear", "Plum", "Cherry", "Quince", "Medlar", "Hazel", "Walnut", "Mulberry", "Damson", "Almond"],
        "Trees travel with bare roots from November to March, and not in frost.",
    ),
];

/// The beginning of a page of the shop.
fn shop_head(up: &str, title: &str, about: &str, more: &str) -> String {
    format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>{title} - Heron Garden Shop</title>\n<meta name=\"description\" content=\"{about}\">\n<link rel=\"stylesheet\" href=\"{up}css/shop.css\">\n<link rel=\"stylesheet\" href=\"{up}css/print.css\" media=\"print\">\n<link rel=\"icon\" href=\"{up}img/heron.png\">\n{more}</head>\n"
    )
}

/// Its header, with the entry of the menu that is marked; an old one lacks an entry.
fn shop_header(up: &str, current: &str, outdated: bool) -> String {
    let entries = SHELVES.iter().map(|(name, ..)| (*name, format!("{}/index.html", word(name))));
    let entries = entries.chain([("Delivery", "delivery.html".to_owned()), ("Offers", "offers.html".to_owned())]);
    let item = |(name, link): (&str, String)| {
        let mark = if name == current { " class=\"on\"" } else { "" };
        format!("<li{mark}><a href=\"{up}{link}\">{name}</a></li>\n")
    };
    let items: String = entries.filter(|(name, _)| !outdated || *name != "Offers").map(item).collect();
    format!(
        "<body>\n<div id=\"page\">\n<header>\n<a class=\"logo\" href=\"{up}index.html\"><img src=\"{up}img/logo.png\" alt=\"Heron Garden Shop\"></a>\n<ul class=\"menu\">\n{items}</ul>\n<form class=\"search\" action=\"{up}search.html\"><input name=\"q\"> <button>Find</button></form>\n</header>\n"
    )
}

/// Its footer, and the end of the page.
fn shop_footer(up: &str, year: u32) -> String {
    format!(
        "<footer>\n<p>Heron Garden Shop, Mill Lane 4, open from eight to six, closed on Mondays.</p>\n<p><a href=\"{up}about.html\">About us</a> | <a href=\"{up}contact.html\">Contact</a> | &copy; {year} Heron Garden Shop</p>\n</footer>\n</div>\n</body>\n</html>\n"
    )
}

/// A shop: shelves with a side menu each, pages without one, a form to print. Three pages have last year's footer, one
/// page's menu lacks an entry.
pub fn shop() -> Vec<SourceFile> {
    let mut random = Random(7);
    let mut pages = Vec::new();
    for (shelf, things, tip) in SHELVES {
        let folder = word(shelf);
        let names = std::iter::once("").chain(things.iter().copied());
        for (at, thing) in names.enumerate() {
            let title = if thing.is_empty() { shelf } else { thing };
            let file = if thing.is_empty() { "index.html".to_owned() } else { format!("{}.html", word(thing)) };
            let item = |name: &&str| match *name == thing {
                true => format!("<li class=\"on\">{name}</li>\n"),
                false => format!("<li><a href=\"{}.html\">{name}</a></li>\n", word(name)),
            };
            let side: String = things.iter().map(item).collect();
            let crumbs = match thing {
                "" => format!("<p class=\"crumbs\"><a href=\"../index.html\">Home</a> &gt; {shelf}</p>\n"),
                thing => format!(
                    "<p class=\"crumbs\"><a href=\"../index.html\">Home</a> &gt; <a href=\"index.html\">{shelf}</a> &gt; {thing}</p>\n"
                ),
            };
            let about = prose(&mut random, 1);
            let more = if at % 4 == 2 { "<script src=\"../js/zoom.js\"></script>\n" } else { "" };
            let main = format!(
                "<h1>{title}</h1>\n<p class=\"price\">{} crowns</p>\n<img src=\"../img/{}.jpg\" alt=\"{title}\">\n<p>{}</p>\n<p>{}</p>\n",
                3 + random.below(90),
                word(title),
                prose(&mut random, 3),
                prose(&mut random, 4)
            );
            let year = if matches!(thing, "Kale" | "Sieve" | "Plum") { 2024 } else { 2026 };
            let text = format!(
                "{}{}{crumbs}<aside class=\"side\">\n<h3>{shelf}</h3>\n<ul>\n{side}</ul>\n<p class=\"tip\">{tip}</p>\n</aside>\n<article>\n{main}</article>\n{}",
                shop_head("../", title, &about, more),
                shop_header("../", shelf, thing == "Dibber"),
                shop_footer("../", year)
            );
            pages.push(SourceFile::new(format!("{folder}/{file}"), text));
        }
    }
    for title in ["Home", "About us", "Contact", "Delivery", "Offers", "Search"] {
        let file = match title {
            "Home" => "index".to_owned(),
            "About us" => "about".to_owned(),
            title => word(title),
        };
        let about = prose(&mut random, 1);
        let main = format!(
            "<div class=\"wide\">\n<h1>{title}</h1>\n<p>{}</p>\n<ul>\n<li>{}</li>\n<li>{}</li>\n</ul>\n</div>\n",
            prose(&mut random, 4),
            prose(&mut random, 1),
            prose(&mut random, 2)
        );
        let text = format!(
            "{}{}{main}{}",
            shop_head("", title, &about, ""),
            shop_header("", title, false),
            shop_footer("", 2026)
        );
        pages.push(SourceFile::new(format!("{file}.html"), text));
    }
    let lines: String = (1..12).map(|n| format!("<tr><td>{n}</td><td>&nbsp;</td><td>&nbsp;</td></tr>\n")).collect();
    pages.push(SourceFile::new(
        "order-form.html",
        format!(
            "<html>\n<head><title>Order form</title></head>\n<body bgcolor=\"white\">\n<h2>Order form, to be sent by post</h2>\n<table border=\"1\">\n{lines}</table>\n<p>Signature:</p>\n</body>\n</html>\n"
        ),
    ));
    pages
}

const CLUB_MENU: [(&str, &str); 4] =
    [("Home", "index.html"), ("News", "news/index.html"), ("Boats", "boats/index.html"), ("Join", "join.html")];

/// What a page of the club has of its own.
struct ClubPage<'a> {
    up: &'a str,
    title: &'a str,
    /// The entry of the menu that is text in place of a link.
    current: &'a str,
    script: &'a str,
    side: &'a str,
    main: &'a str,
    byline: &'a str,
}

impl ClubPage<'_> {
    fn text(&self) -> String {
        let Self { up, title, current, script, side, main, byline } = self;
        let item = |(name, link): &(&str, &str)| match name == current {
            true => format!("    <strong>{name}</strong>\n"),
            false => format!("    <a href=\"{up}{link}\">{name}</a>\n"),
        };
        let items: String = CLUB_MENU.iter().map(item).collect();
        format!(
            "<!doctype html>\n<html>\n<head>\n  <title>{title} | Pond Rowing Club</title>\n  <meta charset=\"utf-8\">\n  <link rel=\"stylesheet\" href=\"{up}club.css\">\n{script}</head>\n<body>\n  <h1 class=\"club\">Pond Rowing Club</h1>\n  <nav>\n{items}  </nav>\n  <div id=\"main\">\n{main}  </div>\n{side}  <div id=\"foot\">\n    <p>Pond Rowing Club, boat house at the east bank. Training every Tuesday at six.</p>\n{byline}  </div>\n</body>\n</html>\n"
        )
    }
}

/// A club: news by year, boats, people; the side box differs by folder, the current entry is text in place of a link.
pub fn club() -> Vec<SourceFile> {
    let mut random = Random(11);
    let mut pages = Vec::new();
    let side = |title: &str, links: &[(String, String)]| {
        let links: String =
            links.iter().map(|(name, link)| format!("      <li><a href=\"{link}\">{name}</a></li>\n")).collect();
        format!("  <div id=\"side\">\n    <h2>{title}</h2>\n    <ul>\n{links}    </ul>\n  </div>\n")
    };
    let byline = |n: usize| format!("    <p class=\"by\">Written by {}</p>\n", ["Ada", "Bo", "Cem", "Dora"][n % 4]);
    let years = [2023, 2024, 2025, 2026];
    let archive: Vec<(String, String)> =
        years.iter().map(|year| (format!("Year {year}"), format!("{year}.html"))).collect();
    for (at, year) in years.iter().enumerate() {
        let main = format!("    <h2>News of {year}</h2>\n    <p>{}</p>\n", prose(&mut random, 3));
        let text = ClubPage {
            up: "../",
            title: &format!("News {year}"),
            current: "News",
            script: "",
            side: &side("Archive", &archive),
            main: &main,
            byline: &byline(at),
        }
        .text();
        pages.push(SourceFile::new(format!("news/{year}.html"), text));
    }
    for number in 0..20 {
        let title = prose(&mut random, 1).split_whitespace().take(3).collect::<Vec<_>>().join(" ");
        let main = format!(
            "    <h2>{title}</h2>\n    <p>{}</p>\n    <p>{}</p>\n",
            prose(&mut random, 4),
            prose(&mut random, 2)
        );
        // One of them was made with an older copy of the side box.
        let known = if number == 6 { &archive[..3] } else { &archive[..] };
        let text = ClubPage {
            up: "../",
            title: &title,
            current: "News",
            script: "",
            side: &side("Archive", known),
            main: &main,
            byline: &byline(number),
        }
        .text();
        pages.push(SourceFile::new(format!("news/item-{number:02}.html"), text));
    }
    let boats = ["Swift", "Otter", "Grebe", "Teal", "Coot", "Heron", "Kite", "Wren", "Lark", "Finch", "Stoat", "Pike"];
    let fleet: Vec<(String, String)> =
        boats.iter().map(|name| ((*name).to_owned(), format!("{}.html", word(name)))).collect();
    for (at, boat) in boats.iter().enumerate() {
        let main = format!(
            "    <h2>{boat}</h2>\n    <table>\n      <tr><th>Seats</th><td>{}</td></tr>\n      <tr><th>Built</th><td>{}</td></tr>\n    </table>\n    <p>{}</p>\n",
            1 + random.below(8),
            1950 + random.below(70),
            prose(&mut random, 3)
        );
        let script = "  <script src=\"../gallery.js\"></script>\n";
        let text = ClubPage {
            up: "../",
            title: boat,
            current: "Boats",
            script,
            side: &side("Our boats", &fleet),
            main: &main,
            byline: &byline(at),
        }
        .text();
        pages.push(SourceFile::new(format!("boats/{}.html", word(boat)), text));
    }
    for (folder, title) in [("news", "News"), ("boats", "Boats")] {
        let main = format!("    <h2>{title}</h2>\n    <p>{}</p>\n", prose(&mut random, 5));
        let (side, script) = match folder {
            "news" => (side("Archive", &archive), ""),
            _ => (side("Our boats", &fleet), "  <script src=\"../gallery.js\"></script>\n"),
        };
        let text =
            ClubPage { up: "../", title, current: title, script, side: &side, main: &main, byline: &byline(1) }.text();
        pages.push(SourceFile::new(format!("{folder}/index.html"), text));
    }
    for (file, title) in [("index", "Home"), ("join", "Join"), ("rules", "Rules"), ("map", "Map")] {
        let main = format!(
            "    <h2>{title}</h2>\n    <p>{}</p>\n    <p>{}</p>\n",
            prose(&mut random, 3),
            prose(&mut random, 3)
        );
        let text =
            ClubPage { up: "", title, current: title, script: "", side: "", main: &main, byline: &byline(2) }.text();
        pages.push(SourceFile::new(format!("{file}.html"), text));
    }
    // Saved from a word processor, and never changed since.
    pages.push(SourceFile::new(
        "minutes.html",
        format!(
            "<html><body><p align=center><b>Minutes</b></p>\n<p>{}</p>\n<p>{}</p></body></html>\n",
            prose(&mut random, 6),
            prose(&mut random, 6)
        ),
    ));
    pages
}

/// A handbook in two languages, with a menu above and below, and the next and the last page in the head.
pub fn handbook() -> Vec<SourceFile> {
    let mut random = Random(13);
    let mut pages = Vec::new();
    let books = [
        (
            "en",
            ["Contents", "Lamps", "Fog", "Up", "Lighthouse handbook", "Keep the glass clean and the log up to date."],
        ),
        (
            "de",
            [
                "Inhalt",
                "Lampen",
                "Nebel",
                "Hinauf",
                "Leuchtturm-Handbuch",
                "Glas sauber halten und das Logbuch führen.",
            ],
        ),
    ];
    let chapters: [(&str, &[&str]); 2] = [
        ("lamps", &["wick", "glass", "oil", "lens", "mirror", "drum", "shade", "flame", "clock", "spare"]),
        ("fog", &["horn", "bell", "watch", "signal", "code", "steam", "valve", "pipe", "log", "drill"]),
    ];
    for (language, [contents, lamps, fog, hinauf, book, motto]) in books {
        let frame = |depth: usize, chapter: &str, title: &str, links: &str, main: &str| {
            let root = up(depth);
            let own = up(depth - 1);
            let link = |other: &str| {
                if other == chapter { "index.html".to_owned() } else { format!("{own}{other}/index.html") }
            };
            let menu = format!(
                "<a href=\"{}\">{lamps}</a> <a href=\"{}\">{fog}</a> <a href=\"{own}index.html\">{contents}</a>",
                link("lamps"),
                link("fog")
            );
            format!(
                "<!DOCTYPE html>\n<html lang=\"{language}\">\n<head>\n<meta charset=\"utf-8\">\n<title>{title} - {book}</title>\n<link rel=\"stylesheet\" href=\"{root}style/handbook.css\">\n{links}</head>\n<body>\n<div class=\"menu\">{menu}</div>\n<p class=\"motto\">{motto}</p>\n<p class=\"up\"><a href=\"{own}index.html\">{hinauf}</a></p>\n<div class=\"text\">\n{main}</div>\n<div class=\"menu\">{menu}</div>\n<p class=\"licence\">Free to copy, to print and to hang up in the tower, as long as this line stays with it.</p>\n</body>\n</html>\n"
            )
        };
        let index = format!("<h1>{book}</h1>\n<p>{}</p>\n", prose(&mut random, 3));
        pages.push(SourceFile::new(format!("{language}/index.html"), frame(1, "", contents, "", &index)));
        for (chapter, parts) in chapters {
            let title = if chapter == "lamps" { lamps } else { fog };
            let main = format!("<h1>{title}</h1>\n<p>{}</p>\n", prose(&mut random, 4));
            pages
                .push(SourceFile::new(format!("{language}/{chapter}/index.html"), frame(2, chapter, title, "", &main)));
            for (at, part) in parts.iter().enumerate() {
                let previous = at.checked_sub(1).map_or("index", |at| parts[at]);
                let next = parts.get(at + 1).copied().unwrap_or("index");
                let links =
                    format!("<link rel=\"prev\" href=\"{previous}.html\">\n<link rel=\"next\" href=\"{next}.html\">\n");
                let name = format!("{}{}", part[..1].to_uppercase(), &part[1..]);
                let main = format!(
                    "<h1>{name}</h1>\n<p>{}</p>\n<h2>{}</h2>\n<p>{}</p>\n",
                    prose(&mut random, 3),
                    prose(&mut random, 1),
                    prose(&mut random, 3)
                );
                pages.push(SourceFile::new(
                    format!("{language}/{chapter}/{part}.html"),
                    frame(2, chapter, &name, &links, &main),
                ));
            }
        }
    }
    pages.push(SourceFile::new(
        "index.html",
        "<!DOCTYPE html>\n<html>\n<head>\n<meta http-equiv=\"refresh\" content=\"0; url=en/index.html\">\n<title>Lighthouse handbook</title>\n</head>\n<body><a href=\"en/index.html\">English</a> <a href=\"de/index.html\">Deutsch</a></body>\n</html>\n",
    ));
    pages
}
