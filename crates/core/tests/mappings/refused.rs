//! What is no mapping and no press, and what is said of it.

use super::*;

/// What makes no mapping: its shares, its goal, more keys, and what is said of it.
fn unsound() -> Vec<(&'static str, &'static str, &'static str, &'static str)> {
    const NECK: &str = "{ joint = \"heron.neck\", angles_deg = [0, 10] }";
    let (neck, one) = (NECK, "{ stick = 1 }");
    vec![
        ("{ }", neck, "", "no input moves it"),
        (one, "{ angles_deg = [0, 1] }", "", "this is not a goal"),
        (one, "{ joint = \"heron.neck\" }", "", "the goal has no course"),
        (
            one,
            "{ joint = \"heron.neck\", angles_deg = [0, 1], points = [[-1, 0], [1, 1]] }",
            "",
            "the goal has two courses",
        ),
        (one, "{ joint = \"heron.neck\", points = [[0, 0], [0, 1]] }", "", "this is not a course"),
        (
            one,
            "{ joint = \"heron.neck\", points = [[-1, 0], [1, 99999]] }",
            "",
            "angle is 99999 °, outside -3600 to 3600 °",
        ),
        (
            one,
            "{ joint = \"heron.neck\", levels_percent = [0, 1] }",
            "",
            "a goal that is a joint has no levels_percent",
        ),
        (
            one,
            "{ level = \"crane.winch\", levels_percent = [0, 1] }",
            "",
            "crane.winch is continuous: it gets a rate",
        ),
        (
            one,
            "{ rate = \"crane.winch\", rates_deg_s = [0, 1] }",
            "",
            "a goal that is a rate has no rates_deg_s",
        ),
        (
            one,
            "{ level = \"marsh.moon\", levels_percent = [-5, 1] }",
            "",
            "level is -5 %, outside 0 to 100 %",
        ),
        (one, "{ blend = [\"rest\"] }", "", "a blend has 2 to 64 poses"),
        (one, "{ blend = [\"rest\", \"fly\"] }", "", "no pose is called \"fly\""),
        (
            one,
            "{ blend = [\"rest\", \"bow\"], joints = [\"marsh.moon\"] }",
            "",
            "marsh.moon is not in all of these poses",
        ),
        (one, "{ toggle = [\"rest\", \"look\"] }", "", "a toggle follows the presses of one switch"),
        (
            "{ vane = 1, stick = 1 }",
            "{ joint = \"heron.neck\" }",
            "",
            "an input in degrees cannot have a share here",
        ),
        ("{ vane = 1 }", neck, "", "the goal has two courses"),
        (one, neck, "while = { input = \"knob\", pressed = true }\n", "knob is not a switch"),
        (one, neck, "while = { input = \"mode\", position = 4 }\n", "mode has 3 positions"),
        (one, neck, "while = { input = \"mode\" }\n", "this is not a position"),
        (
            one,
            neck,
            "when_lost = \"home\"\nfailsafe = { angle_deg = 0, over_s = 1 }\n",
            "there are two rules for a lost link",
        ),
        (
            one,
            neck,
            "failsafe = { pose = \"rest\", over_s = 1 }\n",
            "this failsafe does not fit a goal that is a joint",
        ),
        (
            one,
            "{ rate = \"heron.neck\", rates_deg_s = [-1, 1] }",
            "failsafe = { angle_deg = 0, over_s = 1 }\n",
            "a rate stops when its link is lost",
        ),
        ("{ stick = 11 }", neck, "", "weight is 11, outside -10 to 10"),
        ("{ tiller = 1 }", neck, "", "no input is called \"tiller\""),
    ]
}

#[test]
fn mappings_that_cannot_be_are_refused_with_words() {
    let of = |from: &str, to: &str, more: &str| {
        format!("[[mapping]]\nname = \"m\"\nfrom = {from}\nto = {to}\n{more}")
    };
    let neck = "{ joint = \"heron.neck\", angles_deg = [0, 10] }";
    let one = "{ stick = 1 }";
    for (from, to, more, words) in unsound() {
        assert_eq!(wrong(&of(from, to, more)), words, "{from} {to} {more}");
    }
    let both = format!(
        "{}[[mapping]]\nname = \"n\"\nfrom = {one}\nto = {{ blend = [\"rest\", \"look\"] }}\n",
        of(one, neck, "")
    );
    assert_eq!(wrong(&both), "m and n both move heron.neck");
    for (press, words) in [
        ("input = \"knob\"\ndoes = \"hold\"", "knob is not a switch"),
        ("input = \"push\"\ndoes = \"play\"", "play needs a sequence"),
        ("input = \"push\"\ndoes = \"play\"\nsequence = \"crossing\"", "no sequence is called \"crossing\""),
        ("input = \"push\"\ndoes = \"cut\"\npose = \"x\"", "a press that does cut has no pose"),
        (
            "input = \"push\"\ndoes = \"cut\"\n[[press]]\ninput = \"push\"\ndoes = \"hold\"",
            "push already does cut there",
        ),
    ] {
        assert_eq!(wrong(&format!("[[press]]\n{press}\n")), words);
    }
}
