//! The terminal that the view is drawn on: entered, left again whatever happens, and its keys.

use std::fs::File;
use std::io::{self, BufWriter, IsTerminal, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use anyhow::{Context, Result};
use crossterm::cursor::Show;
use crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use crossterm::terminal::{
    BeginSynchronizedUpdate, EndSynchronizedUpdate, EnterAlternateScreen, LeaveAlternateScreen,
    disable_raw_mode, enable_raw_mode,
};
use crossterm::{execute, queue};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::buffer::Buffer;
use tonemap_view::{Colours, Key, Running, Watch};

use crate::status::Usage;

/// Whether the terminal is ours now, and must be left.
static ENTERED: AtomicBool = AtomicBool::new(false);

/// A terminal that is ours.
pub(super) struct Screen {
    terminal: Terminal<CrosstermBackend<BufWriter<File>>>,
    pressed: Receiver<Pressed>,
}

/// What was done at the terminal.
pub(super) enum Pressed {
    Key(Key),
    /// Ctrl-C.
    Interrupt,
    /// Ctrl-Z.
    Suspend,
}

impl Screen {
    /// Enters the terminal: standard output, or that which the program was started from where
    /// standard output has other work.
    pub(super) fn enter(output_is_taken: bool) -> Result<Self> {
        if !output_is_taken && !io::stdout().is_terminal() {
            let reason = "standard output is no terminal, and the view is drawn on one; for other \
                          programs there is --json";
            return Err(Usage(reason.into()).into());
        }
        let file = terminal_file()
            .context("there is no terminal to draw on; for other programs there is --json")?;
        take_over()?;
        let leave = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |about| {
            leave_terminal();
            leave(about);
        }));
        let terminal = fresh_terminal(file)?;
        let (sender, pressed) = channel();
        // Keys are waited for by themselves: a terminal that is gone is waited for without end.
        std::thread::spawn(move || {
            while let Ok(event) = event::read() {
                if let Some(pressed) = pressed_by(&event)
                    && sender.send(pressed).is_err()
                {
                    return;
                }
            }
        });
        Ok(Self { terminal, pressed })
    }

    /// Draws what is seen, at once.
    pub(super) fn draw(&mut self, watch: &Watch, running: &Running) -> Result<()> {
        queue!(self.terminal.backend_mut(), BeginSynchronizedUpdate)?;
        self.terminal.draw(|frame| watch.draw(frame, running))?;
        execute!(self.terminal.backend_mut(), EndSynchronizedUpdate)?;
        Ok(())
    }

    /// The cells that are seen.
    pub(super) fn cells(&mut self, watch: &Watch, running: &Running) -> Result<Buffer> {
        let size = self.terminal.size()?;
        let area = ratatui::layout::Rect::new(0, 0, size.width, size.height);
        let mut cells = Buffer::empty(area);
        watch.draw_into(area, &mut cells, running);
        Ok(cells)
    }

    /// What is pressed within a time. A change of size is seen by the next picture.
    pub(super) fn pressed(&self, patience: Duration) -> Option<Pressed> {
        self.pressed.recv_timeout(patience).ok()
    }

    /// Gives the terminal back while the program is stopped, and enters it again when it goes on.
    #[cfg(unix)]
    pub(super) fn suspend(&mut self) -> Result<()> {
        leave_terminal();
        signal_hook::low_level::emulate_default_handler(signal_hook::consts::SIGTSTP)?;
        take_over()?;
        // What was drawn is gone: all is drawn anew.
        self.terminal = fresh_terminal(terminal_file()?)?;
        Ok(())
    }

    #[cfg(not(unix))]
    pub(super) fn suspend(&mut self) -> Result<()> {
        Ok(())
    }
}

fn fresh_terminal(file: File) -> Result<Terminal<CrosstermBackend<BufWriter<File>>>> {
    let out = BufWriter::with_capacity(1 << 16, file);
    Ok(Terminal::new(CrosstermBackend::new(out))?)
}

impl Drop for Screen {
    fn drop(&mut self) {
        leave_terminal();
    }
}

/// What an event of the terminal is to the view.
fn pressed_by(event: &Event) -> Option<Pressed> {
    let Event::Key(key) = event else { return None };
    if key.kind == KeyEventKind::Release {
        return None;
    }
    let is_far = key.modifiers.contains(KeyModifiers::SHIFT);
    let is_control = key.modifiers.contains(KeyModifiers::CONTROL);
    Some(Pressed::Key(match key.code {
        KeyCode::Char('c') if is_control => return Some(Pressed::Interrupt),
        KeyCode::Char('z') if is_control => return Some(Pressed::Suspend),
        KeyCode::Char(letter) => Key::Char(letter),
        KeyCode::Left => Key::Left(is_far),
        KeyCode::Right => Key::Right(is_far),
        KeyCode::Up => Key::Up,
        KeyCode::Down => Key::Down,
        KeyCode::Tab => Key::Tab,
        KeyCode::Esc => Key::Escape,
        _ => return None,
    }))
}

/// The terminal as a file of its own: what is written is not held back.
fn terminal_file() -> io::Result<File> {
    #[cfg(unix)]
    let name = "/dev/tty";
    #[cfg(not(unix))]
    let name = "CONOUT$";
    File::options().read(true).write(true).open(name)
}

fn take_over() -> Result<()> {
    enable_raw_mode().context("the terminal cannot be switched to single keys")?;
    ENTERED.store(true, Ordering::SeqCst);
    execute!(terminal_file()?, EnterAlternateScreen)?;
    Ok(())
}

/// Leaves the terminal as it was found; once is enough, and more does no harm.
pub(super) fn leave_terminal() {
    if !ENTERED.swap(false, Ordering::SeqCst) {
        return;
    }
    // Where the terminal is gone there is nothing to restore.
    if let Ok(mut file) = terminal_file() {
        let _ = execute!(file, EndSynchronizedUpdate, LeaveAlternateScreen, Show);
        let _ = file.flush();
    }
    let _ = disable_raw_mode();
}

/// Colours that the terminal shows, by what its environment says.
pub(super) fn colours() -> Colours {
    let is_set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let named = |name: &str| std::env::var(name).unwrap_or_default();
    let terminal = named("TERM");
    match named("COLORTERM").as_str() {
        _ if is_set("NO_COLOR") || terminal == "dumb" || terminal.ends_with("mono") => {
            Colours::None
        }
        "truecolor" | "24bit" => Colours::All,
        _ => Colours::Few,
    }
}
