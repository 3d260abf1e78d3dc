//! Signing in by a provider with a browser, which keeps cookies and policies as browsers do.

use super::first_start::{follow, serve, text_of};
use super::pages::{fill, press};
use cadentis_e2e::Looker;
use cadentis_standins::postgres::{Cluster, free_port};
use cadentis_standins::provider::{CLIENT_ID, CLIENT_SECRET, Known, Provider};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_provider_lets_somebody_in_and_proves_who_they_are_before_what_is_grave() {
    let cluster = Cluster::scratch().expect("PostgreSQL is installed");
    let url = cluster.create_database("provider").expect("a database");
    let address = format!("127.0.0.1:{}", free_port().expect("a port"));
    let ines = Known {
        subject: "ines".into(),
        email: Some("ines@marram.example".into()),
        email_verified: true,
        name: Some("Ines".into()),
        groups: vec!["bridge".into(), "web performance".into()],
    };
    let provider = Provider::start(vec![ines]).expect("a provider");
    let issuer = provider.issuer();
    let words = [
        ["--provider", &issuer],
        ["--provider-client-id", CLIENT_ID],
        ["--provider-client-secret", CLIENT_SECRET],
        ["--provider-name", "Marram account"],
        ["--provider-administrators", "bridge"],
    ];
    let (_server, _link) = serve(&url, &address, &words.concat());
    let looker = Looker::start(&[]).await;
    looker.driver.goto(format!("http://{address}/setup/groups")).await.expect("the page opens");
    follow(&looker, "Sign in by Marram account").await;
    follow(&looker, "Ines").await;
    looker.wait_for("the groups", "return location.pathname === '/setup/groups'", 20).await;
    assert_eq!(text_of(&looker, "tbody th").await, "bridge");
    // The stand-in knows her by one press, which is proof: it takes ten minutes until it has to be given again.
    fill(&looker, "input[name=group]", "web performance").await;
    press(&looker, "Add it").await;
    let added = "return document.querySelectorAll('tbody tr').length === 2";
    looker.wait_for("the rule", added, 20).await;
    looker.driver.goto(format!("http://{address}/confirm?to=/me")).await.expect("the page opens");
    follow(&looker, "Prove it by Marram account").await;
    follow(&looker, "Ines").await;
    looker.wait_for("herself", "return location.pathname === '/me'", 20).await;
    assert_eq!(
        looker.ask("return document.querySelectorAll('input[type=password]').length").await,
        0
    );
    press(&looker, "Sign out").await;
    looker.wait_for("outside", "return location.pathname === '/sign-in'", 20).await;
    looker.end().await;
}
