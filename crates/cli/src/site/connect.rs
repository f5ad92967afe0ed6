//! From the places of a site to open connections.

use super::Site;
use crate::config::Assist;
use crate::hosts::{FilesPlace, Login, Protocol, RemotePlace, login_of, user_of};
use crate::prompt;
use crate::secrets::{Secret, expanded};
use fernweh_connect::remote::Tree;
use fernweh_connect::server::{ServerAddress, Through};
use fernweh_connect::sqlite::RemoteSqlite;
use fernweh_connect::ssh::SshAddress;
use fernweh_connect::tunnel::{Tunnel, TunnelEnd, Way};
use fernweh_ports::{Result, Trouble};
use std::path::PathBuf;
use std::sync::{Arc, PoisonError};

impl Site {
    /// The database as it is reached from here: through another host if so configured.
    pub(super) fn address_from_here(&self, address: &ServerAddress) -> Result<ServerAddress> {
        let address =
            ServerAddress { password: self.database_password(address)?, ..address.clone() };
        let Some(through) = &self.section.through else { return Ok(address) };
        let mut tunnel = self.tunnel.lock().unwrap_or_else(PoisonError::into_inner);
        let tunnel = match &mut *tunnel {
            Some(open) => open,
            None => tunnel.insert(self.open_tunnel(through, &address)?),
        };
        let (host, socket) = (through.clone(), tunnel.socket().to_owned());
        Ok(ServerAddress { through: Some(Through { host, socket }), ..address })
    }

    pub(super) fn open_tunnel(&self, through: &str, address: &ServerAddress) -> Result<Tunnel> {
        let at = |trouble: Trouble| trouble.doing(format!("reaching {} from there", self.name));
        let url = login_of(through, "write it as in through = \"ssh://keeper@198.51.100.7\"")?;
        if url.scheme() != "ssh" {
            return Err(Trouble::usage("through is not an address of SSH")
                .because(format!("it begins with {}:", url.scheme()))
                .hint("write it as in ssh://keeper@198.51.100.7"));
        }
        // Where the files come from the same host, one password serves both.
        let passwords = &self.section.password;
        let secret = passwords.through.as_ref().or(passwords.files.as_ref());
        let login = self.login("through", secret)?;
        let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
        let user = user_of(&url);
        let ssh =
            SshAddress::complete(host, url.port(), user.as_deref(), login.password, login.key)?;
        let session = self.hosts.session(&ssh)?;
        let end = match &address.socket {
            Some(socket) => TunnelEnd::Socket(socket.clone()),
            None => TunnelEnd::Tcp(address.host.clone(), address.port),
        };
        let copy = self.section.assist == Some(Assist::CopySelf);
        let copy = copy.then(std::env::current_exe).and_then(std::result::Result::ok);
        // PostgreSQL's driver finds a socket by this name in its folder.
        let name = format!(".s.PGSQL.{}", address.port);
        let way = Way { login: (ssh, prompt::person_again()), end, copy };
        let tunnel = Tunnel::open(session, way, &name).map_err(at)?;
        if let Some(place) = tunnel.copied_to() {
            crate::messages::say(&format!(
                "{through} forbids forwarding: Fernweh has copied itself to {place} there and \
                 removes \
                 itself at the end\n"
            ));
        }
        Ok(tunnel)
    }

    /// A database file of the host where the site's files are.
    pub(super) fn remote_sqlite(&self, path: &str) -> Result<RemoteSqlite> {
        let Some(FilesPlace::Remote(place)) = &self.files else {
            return Err(Trouble::usage("the site's files are on no other host"));
        };
        let (tree, root) = self.file_tree(place)?;
        let shell = match place.protocol {
            Protocol::Sftp => Some(self.hosts.session(&self.ssh_of(place)?)?),
            Protocol::Ftp | Protocol::Ftps => None,
        };
        let path = match path.starts_with('/') {
            true => path.as_bytes().to_vec(),
            false => [&root, &b"/"[..], path.trim_start_matches("./").as_bytes()].concat(),
        };
        let here = self.folder.join(".fernweh/fetched").join(&self.name);
        Ok(RemoteSqlite { tree, path, shell, here })
    }

    /// The login that serves files over SFTP.
    pub(super) fn ssh_of(&self, place: &RemotePlace) -> Result<SshAddress> {
        let login = self.login("files", self.section.password.files.as_ref())?;
        let user = place.user.as_deref();
        SshAddress::complete(&place.host, place.port, user, login.password, login.key)
    }

    /// The files on another host, and the folder there.
    pub(super) fn file_tree(&self, place: &RemotePlace) -> Result<(Arc<dyn Tree>, Vec<u8>)> {
        self.hosts.tree(place, &|| self.login("files", self.section.password.files.as_ref()))
    }

    /// What a login needs beside its address.
    pub(super) fn login(&self, which: &str, secret: Option<&Secret>) -> Result<Login> {
        let here = |path: &PathBuf| self.folder.join(expanded(path));
        Ok(Login {
            password: self.secret(which, secret)?,
            key: self.section.key.as_ref().map(here),
            trust: self.trust()?,
        })
    }
}
