use actix_web::web::{self, ServiceConfig};
pub fn routes(config: &mut ServiceConfig) {
    config.route("/", web::get().to(|| async { "soon" }));
}
