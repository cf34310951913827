//! Writers of this machine, through the kernel's generic SCSI interface (`SG_IO`, `scsi/sg.h`).

use crate::{Answer, Data, PacketDevice, Sense};
use neat_content::{Error, Result};
use std::{
    fs::File,
    io,
    os::{
        fd::AsRawFd,
        unix::fs::{FileTypeExt, OpenOptionsExt},
    },
    path::{Path, PathBuf},
    time::Duration,
};

/// A writer of this machine.
#[derive(Debug)]
pub struct KernelWriter {
    path: PathBuf,
    file: File,
}

impl KernelWriter {
    /// Opens a writer, for looking or, `alone`, for writing: then nobody else may have it open that way, nor may it be mounted.
    ///
    /// # Errors
    /// `Io` where the system refuses it.
    pub fn open(path: &Path, alone: bool) -> Result<Self> {
        // Without the first the kernel wants a disc in it.
        let mut flags = libc::O_NONBLOCK | libc::O_CLOEXEC;
        if alone {
            flags |= libc::O_EXCL;
        }
        let file = File::options()
            .read(true)
            .write(alone)
            .custom_flags(flags)
            .open(path)
            .map_err(Error::io("open", path))?;
        let kind = file.metadata().map_err(Error::io("examine", path))?.file_type();
        if !kind.is_block_device() && !kind.is_char_device() {
            return Err(Error::request(
                format!("{} is no drive for discs", path.display()),
                "`neatstack disc --list` shows those that are here; --simulated FILE rehearses",
            ));
        }
        Ok(Self { path: path.to_owned(), file })
    }
}

impl PacketDevice for KernelWriter {
    fn name(&self) -> String {
        self.path.display().to_string()
    }

    fn send(&mut self, command: &[u8], data: Data<'_>, limit: Duration) -> io::Result<Answer> {
        generic::send(self.file.as_raw_fd(), command, data, limit)
    }
}

/// The call itself. It needs `unsafe`, as the kernel is handed the addresses of buffers.
#[allow(unsafe_code, reason = "an ioctl with addresses of buffers, which no maintained crate here has")]
mod generic {
    use super::{Answer, Data, Duration, Sense, io};
    use std::{
        ffi::{c_int, c_uchar, c_uint, c_ushort, c_void},
        os::fd::RawFd,
        ptr,
    };

    /// `struct sg_io_hdr` of `scsi/sg.h`, version 3.
    #[repr(C)]
    struct Header {
        interface_id: c_int,
        dxfer_direction: c_int,
        cmd_len: c_uchar,
        mx_sb_len: c_uchar,
        iovec_count: c_ushort,
        dxfer_len: c_uint,
        dxferp: *mut c_void,
        cmdp: *const c_uchar,
        sbp: *mut c_uchar,
        timeout: c_uint,
        flags: c_uint,
        pack_id: c_int,
        usr_ptr: *mut c_void,
        status: c_uchar,
        masked_status: c_uchar,
        msg_status: c_uchar,
        sb_len_wr: c_uchar,
        host_status: c_ushort,
        driver_status: c_ushort,
        resid: c_int,
        duration: c_uint,
        info: c_uint,
    }

    const SG_IO: libc::Ioctl = 0x2285;
    const NONE: c_int = -1;
    const TO_DEVICE: c_int = -2;
    const FROM_DEVICE: c_int = -3;
    /// Statuses of a command (SAM-5, 5.3.1).
    const CHECK_CONDITION: u8 = 0x02;
    const BUSY: u8 = 0x08;
    /// Bits of `driver_status` that say nothing but that there is sense data.
    const DRIVER_SENSE: u16 = 0x08;

    pub(super) fn send(fd: RawFd, command: &[u8], data: Data<'_>, limit: Duration) -> io::Result<Answer> {
        let too_long = || io::Error::from(io::ErrorKind::InvalidInput);
        let mut sense = [0_u8; 64];
        let (direction, address, len) = match data {
            Data::None => (NONE, ptr::null_mut(), 0),
            Data::In(bytes) => (FROM_DEVICE, bytes.as_mut_ptr().cast::<c_void>(), bytes.len()),
            // The kernel only reads what goes to the device.
            Data::Out(bytes) => (TO_DEVICE, bytes.as_ptr().cast_mut().cast::<c_void>(), bytes.len()),
        };
        let mut header = Header {
            interface_id: c_int::from(b'S'),
            dxfer_direction: direction,
            cmd_len: c_uchar::try_from(command.len()).map_err(|_| too_long())?,
            mx_sb_len: sense.len() as c_uchar,
            iovec_count: 0,
            dxfer_len: c_uint::try_from(len).map_err(|_| too_long())?,
            dxferp: address,
            cmdp: command.as_ptr(),
            sbp: sense.as_mut_ptr(),
            timeout: c_uint::try_from(limit.as_millis()).unwrap_or(c_uint::MAX),
            flags: 0,
            pack_id: 0,
            usr_ptr: ptr::null_mut(),
            status: 0,
            masked_status: 0,
            msg_status: 0,
            sb_len_wr: 0,
            host_status: 0,
            driver_status: 0,
            resid: 0,
            duration: 0,
            info: 0,
        };
        // SAFETY: the header has the layout of the kernel's version 3, and each address in it is that of a buffer of at least
        // the length beside it, which lives until the call returns: the kernel uses none of them afterwards, since the
        // command is over then.
        let result = unsafe { libc::ioctl(fd, SG_IO, &raw mut header) };
        if result < 0 {
            return Err(io::Error::last_os_error());
        }
        if header.status == CHECK_CONDITION
            || header.driver_status & DRIVER_SENSE != 0 && header.sb_len_wr > 0
        {
            let len = usize::from(header.sb_len_wr).min(sense.len());
            return Ok(Answer::Check(Sense::read(&sense[..len])));
        }
        if header.status == BUSY {
            return Ok(Answer::Check(Sense::new(2, 4, 7)));
        }
        if header.host_status != 0 || header.driver_status & !DRIVER_SENSE != 0 || header.status != 0 {
            return Err(io::Error::other(format!(
                "the kernel could not bring the command there (status {:#x}, host {:#x}, driver {:#x})",
                header.status, header.host_status, header.driver_status
            )));
        }
        Ok(Answer::Good(len.saturating_sub(usize::try_from(header.resid).unwrap_or(0))))
    }
}
