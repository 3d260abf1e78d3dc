//! Keys as W3C WebDriver numbers them (section 17.4.2, keyboard actions).

use serde_json::{Value, json};

fn code(key: &str) -> &str {
    match key {
        "Enter" => "\u{E006}",
        "Tab" => "\u{E004}",
        "Escape" => "\u{E00C}",
        "Backspace" => "\u{E003}",
        "Delete" => "\u{E017}",
        "Insert" => "\u{E016}",
        "Space" => " ",
        "ArrowLeft" => "\u{E012}",
        "ArrowUp" => "\u{E013}",
        "ArrowRight" => "\u{E014}",
        "ArrowDown" => "\u{E015}",
        "Home" => "\u{E011}",
        "End" => "\u{E010}",
        "PageUp" => "\u{E00E}",
        "PageDown" => "\u{E00F}",
        "F1" => "\u{E031}",
        "F2" => "\u{E032}",
        "F3" => "\u{E033}",
        "F4" => "\u{E034}",
        "F5" => "\u{E035}",
        "F6" => "\u{E036}",
        "F7" => "\u{E037}",
        "F8" => "\u{E038}",
        "F9" => "\u{E039}",
        "F10" => "\u{E03A}",
        "Control" => "\u{E009}",
        "Shift" => "\u{E008}",
        "Alt" => "\u{E00A}",
        "Meta" => "\u{E03D}",
        other => other,
    }
}

/// Pressing keys together: all down in order, then up in reverse.
pub fn pressed(keys: &str) -> Vec<Value> {
    let last = if keys.ends_with('+') { Some("+") } else { None };
    let chord = ["Control", "Meta"].iter().any(|m| keys.contains(m)) && !keys.contains("Shift");
    let names = keys.split('+').filter(|k| !k.is_empty()).chain(last);
    // `Control+A` means the key that is labelled so, not the capital letter.
    let key =
        |k: &str| if chord && k.len() == 1 { k.to_ascii_lowercase() } else { code(k).to_string() };
    let mut names: Vec<String> = names.map(key).collect();
    let mut actions: Vec<Value> =
        names.iter().map(|k| json!({ "type": "keyDown", "value": k })).collect();
    names.reverse();
    actions.extend(names.iter().map(|k| json!({ "type": "keyUp", "value": k })));
    actions
}

/// Typing a text: a key for each character; a new line is Enter, a tab is Tab.
pub fn typed(text: &str) -> Vec<Value> {
    let mut buffer = [0; 4];
    let mut actions = Vec::with_capacity(2 * text.len());
    for c in text.chars() {
        let key = match c {
            '\n' => code("Enter"),
            '\t' => code("Tab"),
            c => c.encode_utf8(&mut buffer),
        };
        actions.push(json!({ "type": "keyDown", "value": key }));
        actions.push(json!({ "type": "keyUp", "value": key }));
    }
    actions
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_go_down_in_order_and_up_in_reverse() {
        let values: Vec<String> = pressed("Control+Shift+x")
            .iter()
            .map(|a| format!("{}{}", a["type"], a["value"]))
            .collect();
        let want = [
            "keyDown\u{E009}",
            "keyDown\u{E008}",
            "keyDownx",
            "keyUpx",
            "keyUp\u{E008}",
            "keyUp\u{E009}",
        ];
        assert_eq!(values.iter().map(|v| v.replace('"', "")).collect::<Vec<_>>(), want);
        assert_eq!(pressed("Control++").len(), 4);
        assert_eq!(pressed("+").len(), 2);
    }
}
