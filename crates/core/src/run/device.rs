//! On what a journey plays: size, touch, what the browser says it is, and how fast machine and network are.
//!
//! That devices come in such classes is common practice, no published source. The figures of slow-downs and networks
//! are our own and round: nothing was measured for them, and they stand for no named network. A run is only compared
//! with runs on the same device, so what they are matters less than that they stay.

/// A device a browser passes itself off as.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DeviceProfile {
    /// Its name in forms.
    pub slug: &'static str,
    /// What it is called.
    pub name: &'static str,
    /// Of the page, in CSS pixels.
    pub width: u32,
    /// Height of the window, in CSS pixels.
    pub height: u32,
    /// Device pixels to a CSS pixel.
    pub scale: f64,
    /// Touch points; 0: a mouse.
    pub touches: u32,
    /// What stands in the user agent where the system is named; `None` leaves the browser's own words.
    pub system: Option<&'static str>,
    /// Whether it is touched, and pages are told that it is mobile.
    pub mobile: bool,
    /// How many times slower the processor seems.
    pub slow_down: f64,
    /// How slow its network is made.
    pub network: Option<Network>,
}

/// A network slower than the location's own.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Network {
    /// The least time from a request to its answer, in milliseconds.
    pub latency_ms: f64,
    /// In kilobits a second.
    pub down_kbit: f64,
    /// Kilobits a second that it sends.
    pub up_kbit: f64,
}

const DESKTOP: DeviceProfile = DeviceProfile {
    slug: "desktop",
    name: "Desktop",
    width: 1280,
    height: 800,
    scale: 1.0,
    touches: 0,
    system: None,
    mobile: false,
    slow_down: 1.0,
    network: None,
};

const PHONE: DeviceProfile = DeviceProfile {
    slug: "phone",
    name: "Phone",
    width: 390,
    height: 844,
    scale: 3.0,
    touches: 5,
    system: Some("Linux; Android 10; K"),
    mobile: true,
    slow_down: 4.0,
    network: Some(Network { latency_ms: 80.0, down_kbit: 10_000.0, up_kbit: 2_000.0 }),
};

/// All there are.
pub const PROFILES: [DeviceProfile; 5] = [
    DESKTOP,
    DeviceProfile {
        slug: "old-desktop",
        name: "Old desktop on a slow line",
        slow_down: 2.0,
        network: Some(Network { latency_ms: 30.0, down_kbit: 5_000.0, up_kbit: 1_000.0 }),
        ..DESKTOP
    },
    DeviceProfile {
        slug: "tablet",
        name: "Tablet",
        width: 820,
        height: 1180,
        scale: 2.0,
        touches: 5,
        system: Some("Linux; Android 10; K"),
        mobile: false,
        slow_down: 2.0,
        network: None,
    },
    PHONE,
    DeviceProfile {
        slug: "slow-phone",
        name: "Slow phone on a slow network",
        slow_down: 6.0,
        network: Some(Network { latency_ms: 200.0, down_kbit: 2_000.0, up_kbit: 500.0 }),
        ..PHONE
    },
];

impl DeviceProfile {
    /// What is played on when nothing is said.
    pub const USUAL: DeviceProfile = DESKTOP;

    /// The one of this name.
    pub fn of(slug: &str) -> Option<DeviceProfile> {
        PROFILES.into_iter().find(|d| d.slug == slug)
    }

    /// The user agent of this device, from that of the browser that plays: the reduced form that Chromium itself
    /// sends (User-Agent reduction, Chromium 110 and later).
    pub fn user_agent(&self, own: &str) -> Option<String> {
        let system = self.system?;
        let (before, after) = (own.find('(')?, own.find(')')?);
        let rest = own[after + 1..].replace("HeadlessChrome", "Chrome");
        let rest = if self.mobile { rest.replace(" Safari/", " Mobile Safari/") } else { rest };
        Some(format!("{}({system}){rest}", &own[..before]))
    }

    /// One sentence on what it is.
    pub fn says(&self) -> String {
        let mut says = format!("{} × {}", self.width, self.height);
        if self.touches > 0 {
            says += ", touch";
        }
        if self.slow_down > 1.0 {
            says += &format!(", processor {} times slower", self.slow_down);
        }
        if let Some(n) = self.network {
            let mbit = n.down_kbit / 1000.0;
            says += &format!(", {mbit} Mbit/s, {} ms at least to an answer", n.latency_ms);
        }
        says
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_phone_says_that_it_is_one_and_a_desktop_says_what_it_is() {
        let own = "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) HeadlessChrome/156.0.0.0 Safari/537.36";
        let phone = DeviceProfile::of("phone").expect("there is one");
        assert_eq!(
            phone.user_agent(own).as_deref(),
            Some(
                "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Mobile Safari/537.36"
            )
        );
        assert_eq!(DeviceProfile::USUAL.user_agent(own), None);
        let visitor = crate::visitor::beacon::os(&phone.user_agent(own).unwrap_or_default());
        assert_eq!(visitor, "Android");
        assert_eq!(
            phone.says(),
            "390 × 844, touch, processor 4 times slower, 10 Mbit/s, 80 ms at least to an answer"
        );
    }
}
