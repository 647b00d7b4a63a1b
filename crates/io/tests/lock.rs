//! The harbor's lock, in a process of its own: one that starts others at the same moment would hold it through them.

#![allow(clippy::unwrap_used)]

use std::time::Duration;

use brightharbor_io::carry_out::take_lock;

#[tokio::test]
async fn a_second_one_waits_says_so_and_gives_up_in_the_end() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("lock");
    let first = take_lock(&path, "attach gullrock.example", Duration::ZERO, &|_| ()).await.unwrap();
    let told = std::cell::RefCell::new(vec![]);
    let tell = |event| told.borrow_mut().push(event);
    // What waits holds nobody else up: the other future runs beside it.
    let beside = async {
        tokio::time::sleep(Duration::from_millis(10)).await;
        told.borrow().len()
    };
    let (refused, told_by_then) = tokio::join!(take_lock(&path, "tend", Duration::from_millis(120), &tell), beside);
    assert!(refused.err().unwrap().to_string().contains("attach gullrock.example"));
    assert_eq!((told_by_then, told.borrow().len()), (1, 1));
    drop(first);
    assert!(take_lock(&path, "tend", Duration::ZERO, &|_| ()).await.is_ok());
}
