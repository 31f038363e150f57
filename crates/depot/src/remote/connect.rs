//! Servers and the credentials that they want: out of the usual variables and files of each service.

use std::collections::BTreeMap;
use std::time::Duration;

use opendal::{Operator, services};

use super::{PATIENCE, Remote};
use crate::address::Address;
use crate::retry::Interrupt;
use crate::storage::{Fault, StorageError};

/// What a depot's options say.
type Options = BTreeMap<String, String>;

/// The storage at an address. Nothing is asked of it yet. `variables` are those of the process: credentials are looked for
/// in them, and in the files of each service.
pub fn connect(
    address: &Address,
    options: &Options,
    variables: &[(String, String)],
    interrupt: &Interrupt,
) -> Result<Remote, StorageError> {
    // The one way to encrypt that is built in. Whoever set it before set the same.
    let _ = rustls::crypto::ring::default_provider().install_default();
    opendal_http_transport_reqwest::install_default();
    let option = |name: &str| options.get(name).map(String::as_str).unwrap_or_default();
    let variable = |name: &str| variables.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str());
    let wrong = |what: String| StorageError::of(Fault::Lasting, "reach", &address.to_string(), what);
    let built = |operator: opendal::Result<Operator>| operator.map_err(|e| wrong(e.to_string()));
    let patience = option("patience").parse().map_or(PATIENCE, Duration::from_secs);
    let remote = |operator: Operator, prefix: String| {
        let capability = operator.info().capability();
        Remote {
            operator,
            prefix,
            shows_halves: false,
            can_put_new: capability.write_with_if_not_exists,
            takes_parts: capability.write_can_multi,
            patience,
            interrupt: interrupt.clone(),
        }
    };
    Ok(match address {
        Address::S3 { bucket, root } => {
            let region = [option("region"), variable("AWS_REGION").or(variable("AWS_DEFAULT_REGION")).unwrap_or_default()];
            let region = region.into_iter().find(|r| !r.is_empty()).unwrap_or("us-east-1");
            let mut builder = services::S3::default().bucket(bucket).root(root).endpoint(option("endpoint")).region(region);
            if option("virtual_host") == "true" {
                builder = builder.enable_virtual_host_style();
            }
            remote(built(Operator::new(builder))?, String::new())
        }
        Address::WebDav { endpoint, root } => {
            let mut builder = services::Webdav::default().endpoint(endpoint).root(root);
            let host = endpoint.split("://").nth(1).unwrap_or_default();
            let host = host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|b| b.is_ascii_digit())).map_or(host, |(h, _)| h);
            let login = match (variable("WEBDAV_USER"), variable("WEBDAV_PASSWORD")) {
                (Some(user), Some(password)) => Some((user.to_string(), password.to_string())),
                _ => netrc(variables, host).map_err(wrong)?,
            };
            if let Some((user, password)) = login {
                builder = builder.username(&user).password(&password);
            }
            remote(built(Operator::new(builder))?, String::new())
        }
        Address::Sftp { host, root } => {
            let mut builder = services::Sftp::default().endpoint(host).key(option("key"));
            let mut prefix = String::new();
            match root.strip_prefix('/') {
                Some(_) => builder = builder.root(root),
                None if root.is_empty() => {}
                None => prefix = format!("{root}/"),
            }
            Remote { shows_halves: true, ..remote(built(Operator::new(builder))?, prefix) }
        }
        #[cfg(feature = "clouds")]
        Address::Gcs { bucket, root } => {
            let builder = services::Gcs::default().bucket(bucket).root(root).endpoint(option("endpoint"));
            remote(built(Operator::new(builder))?, String::new())
        }
        #[cfg(feature = "clouds")]
        Address::Azure { container, root } => {
            let account = option("account");
            let endpoint = match option("endpoint") {
                "" => format!("https://{account}.blob.core.windows.net"),
                endpoint => endpoint.to_string(),
            };
            let mut builder = services::Azblob::default().container(container).root(root).endpoint(&endpoint).account_name(account);
            if let Some(key) = variable("AZURE_STORAGE_KEY").or(variable("AZBLOB_ACCOUNT_KEY")) {
                builder = builder.account_key(key);
            }
            remote(built(Operator::new(builder))?, String::new())
        }
        #[cfg(not(feature = "clouds"))]
        Address::Gcs { .. } | Address::Azure { .. } => {
            return Err(wrong("this Textum was built without it: build it with `--features clouds`".to_string()));
        }
        Address::Folder(_) => return Err(wrong("a folder is no server".to_string())),
    })
}

/// The login of a machine in `~/.netrc`, or in the file that `NETRC` names.
///
/// Source: the GNU inetutils manual, "The .netrc file".
fn netrc(variables: &[(String, String)], host: &str) -> Result<Option<(String, String)>, String> {
    let variable = |name: &str| variables.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str());
    let (file, is_named) = match (variable("NETRC"), variable("HOME")) {
        (Some(file), _) => (std::path::PathBuf::from(file), true),
        (None, Some(home)) => (std::path::Path::new(home).join(".netrc"), false),
        (None, None) => return Ok(None),
    };
    match std::fs::read_to_string(&file) {
        Ok(text) => Ok(login_of(&text, host)),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound && !is_named => Ok(None),
        Err(e) => Err(format!("the file of credentials {} cannot be read: {e}", file.display())),
    }
}

fn login_of(text: &str, host: &str) -> Option<(String, String)> {
    let mut words = text.lines().map(|line| line.split(" #").next().unwrap_or_default()).flat_map(str::split_whitespace);
    let (mut here, mut login, mut password) = (false, None, None);
    while let Some(word) = words.next() {
        match word {
            "machine" | "default" => {
                if here && login.is_some() && password.is_some() {
                    break;
                }
                here = word == "default" || words.next() == Some(host);
                (login, password) = (None, None);
            }
            "login" if here => login = words.next(),
            "password" if here => password = words.next(),
            _ => {}
        }
    }
    Some((login?.to_string(), password?.to_string())).filter(|_| here)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_login_is_found_by_its_machine() {
        let text = "machine shed login ada password loom # ours\nmachine other\n  login bo\n  password x\ndefault login guest password none\n";
        let of = |host: &str| login_of(text, host);
        let login = |user: &str, password: &str| Some((user.to_string(), password.to_string()));
        assert_eq!(of("shed"), login("ada", "loom"));
        assert_eq!(of("other"), login("bo", "x"));
        assert_eq!(of("elsewhere"), login("guest", "none"));
        assert_eq!(login_of("machine shed login ada", "shed"), None, "half a login is none");
        assert_eq!(login_of("machine shed login ada password x", "loom"), None);
        assert_eq!(login_of("", "shed"), None);
    }

    #[test]
    fn a_file_of_credentials_that_cannot_be_read_is_told_where_it_is_named() {
        let named = [("NETRC".to_string(), "/nowhere/netrc".to_string())];
        assert!(netrc(&named, "shed").unwrap_err().contains("/nowhere/netrc"));
        let home = [("HOME".to_string(), "/nowhere".to_string())];
        assert_eq!(netrc(&home, "shed"), Ok(None));
    }
}
