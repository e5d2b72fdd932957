//! Tells when the water is high, from the time of one high water: the tides come twelve hours and twenty-five minutes
//! apart.

const BETWEEN: u32 = 12 * 60 + 25;

/// The first high waters at or after `from`, in minutes of the first day; `first` is a known one.
fn high_waters(first: u32, from: u32, count: usize) -> Vec<u32> {
    (0..).map(|number| first + number * BETWEEN).skip_while(|time| *time < from).take(count).collect()
}

fn shown(minutes: u32) -> String {
    format!("day {} {:02}:{:02}", minutes / 1440 + 1, minutes / 60 % 24, minutes % 60)
}

fn main() {
    for time in high_waters(3 * 60 + 40, 6 * 60, 3) {
        println!("{}, {}", shown(time), tide_marks::spoken(3.4));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tides_come_later_every_time() {
        assert_eq!(high_waters(0, 1, 2), [BETWEEN, 2 * BETWEEN]);
        assert_eq!(shown(1500), "day 2 01:00");
    }
}
